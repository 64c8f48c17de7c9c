package renew_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/renew"
)

// A new password lets one in, and the old one does not.
func TestRenews(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	for app, at := range sitetest.Apps {
		done, err := w.Install(sitetest.Request(app, at))
		require.NoError(t, err)
		before, err := w.Book.Reveal(ctx, done.Site.Address)
		require.NoError(t, err)
		after, err := renew.Renew(ctx, w.Desk, done.Site.Address)
		require.NoError(t, err, app)
		assert.NotEqual(t, before.Password.Reveal(), after.Password.Reveal())
		assert.Equal(t, before.Data.Reveal(), after.Data.Reveal())
		e, _ := sitetest.Examined(t, w, done.Site.Address)
		assert.True(t, e.OK, "%s: %v", app, e.Checks)
		names, err := w.Book.Vault.Names("kept/")
		require.NoError(t, err)
		assert.Empty(t, names)
	}
}
