package near_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/near"
)

func TestTo(t *testing.T) {
	names := []string{"inkwater", "moorings", "lockside.localhost"}
	for word, want := range map[string]string{
		"inkwatr": "inkwater", "Moorings": "moorings", "mooirngs": "moorings", "lockside.localhots": "lockside.localhost",
		"x": "", "pennywharf": "", "": "",
	} {
		assert.Equal(t, want, near.To(word, names), word)
	}
	assert.Equal(t, "Did you mean moorings?", near.Hint("mooring", names))
	assert.Empty(t, near.Hint("nothing", names))
}
