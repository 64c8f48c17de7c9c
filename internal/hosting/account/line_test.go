package account_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/hosting/account"
)

// Whoever chooses a line can tell them apart, and none promises what it cannot do.
func TestLines(t *testing.T) {
	schemes := map[string]bool{}
	for _, l := range account.Lines() {
		assert.False(t, schemes[l.Scheme], l.Scheme)
		schemes[l.Scheme] = true
		assert.NotEmpty(t, l.Title)
		a := &account.Account{Reach: l.Scheme + "://quill@host.localhost/home/quill"}
		if l.OwnMachine {
			a.Reach = l.Scheme + ":/home/quill"
		}
		assert.Equal(t, l, a.Line(), "the account's reach leads back to its line")
		assert.Equal(t, l.OwnMachine, a.Remote() == nil, l.Scheme)
		assert.Equal(t, l.OwnMachine, l.Port == "", "a server listens at a port: %s", l.Scheme)
		if l.Shell || l.Keys {
			assert.True(t, l.Encrypted, "SSH is never in clear: %s", l.Scheme)
		}
	}
	assert.Zero(t, (&account.Account{Reach: "gopher://x"}).Line(), "no line goes there")
	assert.True(t, account.Lines()[0].OwnMachine, "the best comes first")
}
