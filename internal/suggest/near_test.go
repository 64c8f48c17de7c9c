package suggest_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/suggest"
)

func TestTo(t *testing.T) {
	names := []string{"inkreach", "willowbench", "lockside.localhost"}
	for word, want := range map[string]string{
		"inkrech": "inkreach", "Willowbench": "willowbench", "wilowbench": "willowbench",
		"lockside.localhots": "lockside.localhost",
		"x":                  "", "pennywharf": "", "": "",
	} {
		assert.Equal(t, want, suggest.To(word, names), word)
	}
	assert.Equal(t, "Did you mean willowbench?", suggest.Hint("willowbenc", names))
	assert.Empty(t, suggest.Hint("nothing", names))
}
