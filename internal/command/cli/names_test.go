package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/hosting/files"
)

// A name is meant whether its bytes are typed, or what a list shows of them; what a list does not show so is itself.
func TestNamesAsTheyAreTyped(t *testing.T) {
	want := files.Escape("x\xe9.php")
	for typed, name := range map[string]string{"x\xe9.php": want, `x\xe9.php`: want, `a\x41`: `a\x41`, "é.txt": "é.txt",
		`back\slash`: `back\slash`, `\xff\xfe`: files.Escape("\xff\xfe")} {
		assert.Equal(t, []string{name}, NamesOf([]string{typed}), typed)
	}
	assert.Nil(t, NamesOf(nil))
}
