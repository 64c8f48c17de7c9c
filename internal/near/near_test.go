package near_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/near"
)

func TestTo(t *testing.T) {
	names := []string{"inkreach", "quaybench", "lockside.localhost"}
	for word, want := range map[string]string{
		"inkrech": "inkreach", "Quaybench": "quaybench", "quaybecnh": "quaybench", "lockside.localhots": "lockside.localhost",
		"x": "", "pennywharf": "", "": "",
	} {
		assert.Equal(t, want, near.To(word, names), word)
	}
	assert.Equal(t, "Did you mean quaybench?", near.Hint("quaybenc", names))
	assert.Empty(t, near.Hint("nothing", names))
}
