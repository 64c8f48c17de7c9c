package screen

import (
	"bufio"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// typist gives parts of what is typed, one after the other; after each nothing comes for a while.
type typist struct{ parts []string }

func (p *typist) Read(out []byte) (int, error) {
	if len(p.parts) == 0 {
		return 0, io.EOF
	}
	n := copy(out, p.parts[0])
	p.parts = p.parts[1:]
	return n, nil
}

func keysOf(parts ...string) *keyboard {
	of := &typist{parts}
	return &keyboard{from: of, more: func(time.Duration) bool { return false }}
}

func all(t *testing.T, k *keyboard) string {
	t.Helper()
	text, err := io.ReadAll(bufio.NewReaderSize(k, 256))
	require.NoError(t, err)
	return string(text)
}

// No key hangs or swallows what is typed after it; known ones have the one form that the editor knows.
func TestKeys(t *testing.T) {
	for typed, want := range map[string]string{
		"a\x1b[Hb": "a\x1b[Hb", "\x1b[1~": "\x1b[H", "\x1bOF": "\x1b[F", "\x1b[3~x": "\x1b[3~x", "\x1bOA": "\x1b[A",
		"\x1b":           "",       // Esc alone
		"\x1b\r":         "\r",     // Esc, then Enter
		"\x1b\x1b[A":     "\x1b[A", // Esc, then a key
		"\x1b1\r":        "1\r",
		"\x1b[15~a":      "a", // F5
		"\x1b[1;2Pb":     "b",
		"\x1b[":          "",
		"\x1b[12":        "",
		"\x1b[12\rx":     "\rx",
		"\x1b[<0;1;1Mok": "ok", // a mouse
		"grün\r":         "grün\r",
	} {
		assert.Equal(t, want, all(t, keysOf(typed)), "%q", typed)
	}
	assert.Equal(t, "ab", all(t, keysOf("\x1b", "ab")), "Esc, and later letters")
	slow := &typist{[]string{"\x1b", "[", "1", "~", "a"}}
	k := &keyboard{from: slow, more: func(time.Duration) bool { return len(slow.parts) > 0 }}
	assert.Equal(t, "\x1b[Ha", all(t, k), "a key that comes in pieces, over a slow line")
}

// What is pasted ends itself and steers nothing; Enter after it answers no other question.
func TestPastes(t *testing.T) {
	assert.Equal(t, "\x1b[200~one\rtwo tabs[31m\r\x1b[201~\r", all(t, keysOf(
		"\x1b[200~one\rtwo\ttabs\x1b[31m\x07\n\x1b[201~")))
	assert.Equal(t, "\x1b[200~one\rtwo\x1b[201~\r", all(t, keysOf("\x1b[200~one\rtwo\x1b[201~\r")),
		"its last line has no end, and Enter was pressed")
	assert.Equal(t, "\x1b[200~word\x1b[201~\r", all(t, keysOf("\x1b[200~word\x1b[201~\r")), "a word is ended by Enter")
}

// Where a terminal does not say what is pasted, several lines are one answer after a moment.
func TestPastesThatNobodyMarks(t *testing.T) {
	k := keysOf("Server: a.example\rUser: q\rPassword: p", "never asked for")
	k.begin(true)
	out := make([]byte, 256)
	for _, want := range []string{"Server: a.example\r", "User: q\r", "Password: p", "\r"} {
		n, err := k.Read(out)
		require.NoError(t, err)
		assert.Equal(t, want, string(out[:n]))
	}
	assert.True(t, k.over && k.many && !k.waits())
	k = keysOf("a.example\r")
	k.begin(true)
	n, _ := k.Read(out)
	assert.Equal(t, "a.example\r", string(out[:n]))
	n, _ = k.Read(out)
	assert.Equal(t, "\r", string(out[:n]))
	assert.False(t, k.many, "one line is no paste")
}
