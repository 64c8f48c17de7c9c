//go:build unix

package e2e

import (
	"regexp"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// fitting says which lines are wider than a screen, but for those that hold what must not be broken: an address, a
// command to type, what was typed.
func fitting(t *testing.T, shown string, columns int) {
	t.Helper()
	whole := regexp.MustCompile(`http|tivset |[?:\]] *\S*$`)
	for line := range strings.Lines(shown) {
		parts := strings.Split(strings.TrimRight(line, "\r\n"), "\r") // what is drawn over itself
		for _, part := range parts {
			text := ansi.Strip(part)
			longest := 0
			for _, word := range strings.Fields(text) {
				longest = max(longest, ansi.StringWidth(word))
			}
			if longest < columns/2 && !whole.MatchString(text) { // a name that long is not broken
				assert.LessOrEqual(t, ansi.StringWidth(text), columns, text)
			}
		}
	}
}

// On small screens nothing is wider than they are, hangs or is swallowed; also when they change their size meanwhile,
// while a line is being typed.
func TestSmallScreens(t *testing.T) {
	servers.Slow(t)
	for _, size := range []pty.Winsize{{Rows: 24, Cols: 80}, {Rows: 20, Cols: 60}} {
		p := newProgram(t)
		shown, code := onScreen(t, size, p.as("tivset", nil, "install"), newcomer("willowbench", true)...)
		require.Equal(t, 0, code, shown)
		fitting(t, shown, int(size.Cols))
		for _, words := range [][]string{{"sites"}, {"show", "lockside"}, {"check", "lockside"}, {}, {"jobs"},
			{"care", "lockside"}, {"backup", "lockside"}, {"backup", "lockside", "--list"},
			{"restore", "lockside", "--list-files"}, {"browse"},
			{"reveal", "lockside"}, {"help"}, {"remove", "lockside", "--dry-run"}, {"check", "lockside", "--rules"}} {
			shown, code := onScreen(t, size, p.as("tivset", nil, words...))
			assert.Zero(t, code, "%v: %s", words, shown)
			fitting(t, shown, int(size.Cols))
		}
	}
}

func TestAScreenThatChanges(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	turns := newcomer("inkreach", false)
	turns[3].size = &pty.Winsize{Rows: 20, Cols: 60} // while the title is asked for
	turns[3].keys = "A long title that was typed while the screen\x1b[D\x1b[C became small\r"
	shown, code := onScreen(t, pty.Winsize{Rows: 24, Cols: 100}, p.as("tivset", nil, "install"), turns...)
	require.Equal(t, 0, code, shown)
	at := strings.Index(shown, "became small\r")
	require.Positive(t, at)
	fitting(t, shown[at+len("became small\r"):], 60)
	var sites []struct{ Title string }
	p.json(&sites, "sites", "--json")
	require.Len(t, sites, 1)
	assert.Equal(t, "A long title that was typed while the screen became small", sites[0].Title)
}

// For a screen reader nothing is drawn over: no line is begun anew, none has colour, and each is said once.
func TestPlain(t *testing.T) {
	p := newProgram(t)
	shown, code := onScreen(t, pty.Winsize{Rows: 24, Cols: 80}, p.as("tivset", nil, "install", "--plain"),
		newcomer("inkreach", false)...)
	require.Equal(t, 0, code, shown)
	assert.NotContains(t, shown, "\x1b")
	for line := range strings.Lines(shown) {
		assert.NotContains(t, strings.TrimRight(line, "\r\n"), "\r", "drawn over")
	}
}
