package screen

import (
	"io"
	"regexp"
	"strings"

	"tivset/internal/fault"
)

// plainWord is a word that a shell takes as it is.
var plainWord = regexp.MustCompile(`^[A-Za-z0-9@%+=:,./_-]+$`)

// Spell writes a call of the program as somebody would type it into a POSIX
// shell.
func Spell(words []string) string {
	out := []string{"tivset"}
	for _, w := range words {
		if !plainWord.MatchString(w) {
			w = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
		}
		out = append(out, w)
	}
	return strings.Join(out, " ")
}

// Spelled gives a text of the core with the calls in it spelled.
func Spelled(text string) string { return fault.Worded(text, Spell) }

// spelling spells calls in whatever is written through it, and cleans it; each
// write is whole.
type spelling struct{ to io.Writer }

// Spelling gives a writer that spells the calls in texts of the core, and lets
// nothing through that a terminal would obey but what this package says to it.
func Spelling(to io.Writer) io.Writer { return spelling{to} }

func (s spelling) Write(p []byte) (int, error) {
	if _, err := io.WriteString(s.to, safe(Spelled(string(p)))); err != nil {
		return 0, err
	}
	return len(p), nil
}
