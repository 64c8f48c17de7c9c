//go:build unix

package e2e

import (
	"bytes"
	"encoding/base64"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"tivset/internal/trial/servers"

	"github.com/charmbracelet/x/ansi"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// turn is what to wait for on the terminal, and what to type then.
type turn struct {
	wait, keys string
	line       func(shown string) string // what to type, and Enter, when it depends on what was shown
	do         func(shown string)        // before the keys are typed
	size       *pty.Winsize              // what the terminal's becomes before that
}

// toInstall is what the review ends with.
const toInstall = "? y, n or a number:"

func on(wait, keys string) turn { return turn{wait: wait, keys: keys} }
func see(words string) turn     { return turn{wait: words} }

// onTerminal runs the program in a pseudo-terminal, types when it is asked, and
// gives all that it showed.
func onTerminal(t *testing.T, c *exec.Cmd, turns ...turn) (string, int) {
	t.Helper()
	return onTerminalOf(t, 240, c, turns...) // wide, so that no line to wait for is broken
}

func onTerminalOf(t *testing.T, columns uint16, c *exec.Cmd, turns ...turn) (string, int) {
	t.Helper()
	return onScreen(t, pty.Winsize{Rows: 40, Cols: columns}, c, turns...)
}

// unbroken is a text without what breaks and styles its lines.
func unbroken(text string) string { return strings.Join(strings.Fields(ansi.Strip(text)), "") }

func onScreen(t *testing.T, size pty.Winsize, c *exec.Cmd, turns ...turn) (string, int) {
	t.Helper()
	terminal, err := pty.StartWithSize(c, &size)
	require.NoError(t, err)
	defer terminal.Close()
	var shown bytes.Buffer
	done := make(chan struct{})
	go func() {
		defer close(done)
		part := make([]byte, 4096)
		seen := 0
		for {
			n, err := terminal.Read(part)
			shown.Write(part[:n])
			for len(turns) > 0 {
				all, wait := shown.String(), turns[0].wait
				if size.Cols <= 100 { // where lines break anywhere
					all, wait = unbroken(all), unbroken(wait)
				}
				at := strings.Index(all[min(seen, len(all)):], wait)
				if at < 0 {
					break
				}
				seen += at + len(wait)
				if turns[0].do != nil {
					turns[0].do(shown.String())
				}
				if turns[0].size != nil {
					_ = pty.Setsize(terminal, turns[0].size)
				}
				keys := turns[0].keys
				if turns[0].line != nil {
					keys = turns[0].line(shown.String()) + "\r"
				}
				_, _ = io.WriteString(terminal, keys)
				turns = turns[1:]
			}
			if err != nil {
				return
			}
		}
	}()
	select {
	case <-done:
	case <-time.After(30 * time.Second):
		_ = c.Process.Kill()
		<-done
		waits := "nothing"
		if len(turns) > 0 {
			waits = turns[0].wait
		}
		t.Fatalf("no end; it waits for %q and showed:\n%s", waits, shown.String())
	}
	_ = c.Wait()
	require.Empty(t, turns, "what was not asked:\n%s", shown.String())
	return shown.String(), c.ProcessState.ExitCode()
}

// A newcomer's install of a forum: five answers and the yes, in few keys. Tab completes.
func TestConversation(t *testing.T) {
	p := newProgram(t)
	turns := []turn{on("App:", "forum\r"), see("Willowbench: Conversations"),
		see("http://lockside.localhost:"), on("Address:", "2\r"), see("→ http://lockside.localhost:"),
		on("E-mail address of the admin:", "w@l\t\r"),
		on("Title of the site:", "Lockside Talk\r"), on("yes, no, or show", "y\r"),
		see("installs fixes"), on(toInstall, "y\r")}
	keys, answers := 0, 0
	for _, x := range turns {
		keys += len(x.keys)
		if x.keys != "" {
			answers++
		}
	}
	assert.LessOrEqual(t, answers, 6)
	assert.LessOrEqual(t, keys, 45)
	shown, code := onTerminal(t, p.as("tivset", nil, "install"), turns...)
	assert.Equal(t, 0, code, shown)
	assert.Contains(t, shown, "Willowbench 2.4.1 is installed and checked")
	var sites []struct {
		Title, Address string
		Admin          struct{ Email string }
	}
	p.json(&sites, "sites")
	require.Len(t, sites, 1)
	assert.Equal(t, "Lockside Talk", sites[0].Title)
	assert.Equal(t, "w@lockside.localhost", sites[0].Admin.Email)

	// the next one proposes the same address, and nothing that was begun is left
	shown, code = onTerminal(t, p.as("tivset", nil, "install"), on("App:", "1\r"), on("Address:", "3/x\r"),
		on("[w@lockside.localhost]:", "\r"),
		on("Title of the site:", "\x1b[A\x1b[A\x01My \r"), // what was typed before, with a word put before it
		see("title: My 3/x"), on(toInstall, "n\r"))
	assert.Equal(t, 3, code, shown)
	assert.NotContains(t, shown, "You began")
}

// Wrong answers are refused with the reason and asked again; going back, help
// and the end by Ctrl-C work, and leave nothing behind.
func TestConversationWithWrongAnswers(t *testing.T) {
	p := newProgram(t)
	before := p.snapshot()
	shown, code := onTerminal(
		t,
		p.as("tivset-minding", nil, "install", "-a", "admin.name=admin"),
		on("App:", "wilowbench\r"),
		see("Did you mean willowbench?"),
		on("App:", "9\r"),
		see("none of them"),
		on("App:", "\x1b[31m\x07a\r"),
		see("Pennywharf  shop"),
		on("App:", strings.Repeat("y", 10_000)+"\r"),
		see("none of them"),
		on("App:", "Inkreach\r"),
		on("Address:", "?\r"),
		see("Where visitors will find the site"),
		on("Address:", "journal\r"),
		see("1/journal"),
		on("Address:", "1/\r"),
		see("is the account's main site"),
		see("Something is in the way"),
		see("index.html"),
		on("Set it aside? yes or no [no]:", "\r"),
		on("Address", "2/My Blog\r"),
		see("such as my-blog"),
		on("Address", "2\r"),
		see("strangers try first"),
		on("Sign-in name of the admin [", "<\r"),
		on("Address", "2/blog\r"),
		on("Sign-in name of the admin [", "root\r"),
		see("strangers try first"),
		on("Sign-in name of the admin [", "wharfinger\r"),
		on("E-mail address of the admin:", "nobody\r"),
		see("an e-mail address has an @"),
		on("E-mail address of the admin:", "<\r"),
		on("Sign-in name", "\r"),
		on("E-mail address of the admin:", "w@lockside.localhost\r"),
		on("Title of the site:", "\r"),
		see("this needs an answer"),
		on("Title of the site:", strings.Repeat("x", 130)+"\r"),
		see("more than 120 characters"),
		on("Title of the site:", "\x1b[200~two\rlines\x1b[201~\r"),
		see("line breaks"),
		on("Title of the site:", "\x1b[200~\x1b[31mred\x07\x1b[201~\r"), // what steers a terminal was removed from a paste
		see("title: [31mred"),
		on(toInstall, "\x03"),
	)
	assert.Equal(t, 3, code, shown)
	assert.Contains(t, shown, "Nothing was touched. What you answered is kept")
	assert.Equal(t, before, p.snapshot())
	shown, code = onTerminal(t, p.as("tivset-minding", nil, "install"), see("“[31mred” (inkreach) at http://lockside"),
		on("Go on with it", "\r"), see("name: wharfinger"),
		on(toInstall, "\r"), see("y installs"), on(toInstall, "what\r"), see("y installs"), on(toInstall, "y\r"))
	assert.Equal(t, 0, code, shown)
}

// What was given and will not do is said before anything is asked.
func TestConversationThatCannotBegin(t *testing.T) {
	p := newProgram(t)
	for _, args := range [][]string{{"install", "willowbenc", "--at", "lockside.localhost/forum"},
		{"install", "willowbench", "--at", "lockside.localhost/forum", "-a", "titel=x"}} {
		shown, code := onTerminal(t, p.as("tivset", nil, args...))
		assert.Equal(t, 2, code)
		assert.Contains(t, shown, "Did you mean")
		assert.NotContains(t, shown, "Press Enter")
	}
}

func TestConfirmation(t *testing.T) {
	p := newProgram(t)
	args := install("inkreach", "lockside.localhost/journal")
	args = args[:len(args)-1] // without --yes
	before := p.snapshot()
	shown, code := onTerminal(t, p.as("tivset", nil, args...), on(toInstall, "n\r"))
	assert.Equal(t, 3, code)
	assert.Contains(t, shown, "not installed")
	assert.Equal(t, before, p.snapshot())

	shown, code = onTerminal(t, p.as("tivset-minding", nil, args...), on(toInstall, "\x03"))
	assert.NotEqual(t, 0, code)
	assert.Equal(t, before, p.snapshot(), shown)

	shown, code = onTerminal(t, p.as("tivset", nil, args...), on(toInstall, "y\r"))
	assert.Equal(t, 0, code)
	assert.Contains(t, shown, "is installed and checked")
	assert.Contains(t, shown, "to see it again:", "on a terminal the password is shown")
	var creds struct{ Admin struct{ Password string } }
	p.json(&creds, "reveal", "journal")
	assert.Contains(t, shown, creds.Admin.Password)

	shown, code = onTerminal(t, p.as("tivset", nil, "reveal", "journal", "--copy"))
	assert.Equal(t, 0, code)
	assert.NotContains(t, shown, creds.Admin.Password)
	assert.Contains(t, shown, "\x1b]52;c;"+base64.StdEncoding.EncodeToString([]byte(creds.Admin.Password)))
}

// The demo runs until it is interrupted; its tour ends by itself.
func TestDemo(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	c := p.as("tivset-minding", []string{"TIVSET_HOME="}, "demo", "--tour")
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, words := range []string{"Willowbench 2.4.1 is installed and checked.", "[exit code 3]", "[exit code 1]",
		"waiting: the database server does not answer", "each ended as it should"} {
		assert.Contains(t, string(out), words)
	}
}

// The first install on a machine asks once whether it is to make rounds, and a demo never.
func TestRoundsAreOfferedOnce(t *testing.T) {
	p := newProgram(t)
	bin, home := t.TempDir(), t.TempDir()
	crontab := filepath.Join(bin, "kept")
	require.NoError(t, os.WriteFile(filepath.Join(bin, "crontab"), []byte("#!/bin/sh\ncase $1 in\n-l) cat "+crontab+
		" 2>/dev/null || { echo no crontab >&2; exit 1; } ;;\n-) cat >"+crontab+" ;;\nesac\n"), 0o755))
	for _, folder := range []string{"config", "data"} {
		require.NoError(t, os.CopyFS(filepath.Join(home, folder), os.DirFS(filepath.Join(p.demo.Folder, folder))))
	}
	env := []string{"PATH=" + bin + ":" + os.Getenv("PATH"), "TIVSET_HOME=" + home}
	call := func(at string) []string {
		args := install("inkreach", at)
		return args[:len(args)-1]
	}
	shown, code := onTerminal(t, p.as("tivset", env, call("lockside.localhost/one")...), on(toInstall, "y\r"),
		on("Switch it on? [Y/n]", "n\r"), see("tivset maintain on"))
	assert.Equal(t, 0, code, shown)
	assert.NoFileExists(t, crontab)
	shown, code = onTerminal(t, p.as("tivset", env, call("lockside.localhost/two")...), on(toInstall, "y\r"),
		see("Updates and backups are not automatic yet"))
	assert.Equal(t, 0, code, shown)
	require.NoError(t, os.Remove(filepath.Join(home, "state", "rounds.json")))
	shown, code = onTerminal(t, p.as("tivset", env, call("lockside.localhost/three")...), on(toInstall, "y\r"),
		on("Switch it on? [Y/n]", "\r"), see("looks every 1h"))
	assert.Equal(t, 0, code, shown)
	assert.FileExists(t, crontab)
	shown, code = onTerminal(t, p.as("tivset", nil, call("lockside.localhost/four")...), on(toInstall, "y\r"))
	assert.Equal(t, 0, code, shown)
	assert.NotContains(t, shown, "Have it do that?")
}
