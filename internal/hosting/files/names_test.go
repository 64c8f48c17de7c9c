package files_test

import (
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"tivset/internal/hosting/files"
)

// Whatever bytes a name has, its text is text, and leads back to them; two names never become one.
func FuzzNames(f *testing.F) {
	for _, name := range []string{"a.txt", "caf\xe9", "\xff\xfe", "\U0010fe80", "\xf4\x8f\xb8", "é\x80日", "\xed\xb2\x80"} {
		f.Add(name)
	}
	f.Fuzz(func(t *testing.T, raw string) {
		text := files.Escape(raw)
		assert.True(t, utf8.ValidString(text))
		assert.Equal(t, raw, files.Raw(text))
		if utf8.ValidString(raw) && files.Raw(raw) == raw {
			assert.Equal(t, raw, text)
		}
	})
}
