package screen_test

import (
	"bytes"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/screen"
)

// A call that somebody copies into a shell arrives word for word, whatever the
// words are: addresses and file names come from others.
func TestACallArrivesInAShellAsItWasMeant(t *testing.T) {
	for _, words := range [][]string{{"update", "lockside.localhost/journal"}, {"install", "-a", "title=Lock & Co's"},
		{"restore", "x", "--from", "/home/quill/my backups/$(id).tar"}, {"check", ""}, {"remove", "`id`"},
		{"check", "a\nb"}, {"reveal", `a\b"c`}, {"show", "é日"}, {"show", "*"}} {
		call := screen.Spelled("Run: " + fault.Call(words...) + ".")
		line, found := strings.CutPrefix(strings.TrimSuffix(call, "."), "Run: tivset")
		require.True(t, found, call)
		out, err := exec.Command("sh", "-c", `printf '%s\0'`+line).Output()
		require.NoError(t, err, call)
		assert.Equal(t, words, strings.Split(strings.TrimSuffix(string(out), "\x00"), "\x00"), call)
	}
}

// Texts without calls stay as they are; several calls are each spelled; marks
// that came from elsewhere make none.
func TestCallsInTexts(t *testing.T) {
	undo, check := fault.Call("undo", "j1"), fault.Call("check", "a.localhost")
	for text, want := range map[string]string{
		"": "", "Nothing to call.": "Nothing to call.",
		undo:                                  "tivset undo j1",
		"Run " + undo + ", or " + check + ".": "Run tivset undo j1, or tivset check a.localhost.",
		strings.TrimSuffix("Cut: "+undo, "\uFDD2"):  "Cut: undoj1",
		fault.Call("check", "a\uFDD2 rm -rf\uFDD1"): "tivset check 'a rm -rf'",
	} {
		assert.Equal(t, want, screen.Spelled(text))
		var out bytes.Buffer
		n, err := screen.Spelling(&out).Write([]byte(text))
		require.NoError(t, err)
		assert.Equal(t, len(text), n, "the writer above has written all of it")
		assert.Equal(t, want, out.String())
	}
	assert.Equal(t, [][]string{{"undo", "j1"}, {"check", "a.localhost"}}, fault.Calls(undo+" and "+check))
	s, _, err := streams()
	s.Fault(fault.New(fault.Failed, "it failed", "", "Look: "+check))
	assert.Contains(t, err.String(), "→ Look: tivset check a.localhost\n")
}
