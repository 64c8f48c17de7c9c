package e2e

import (
	"bytes"
	"encoding/base64"
	"io"
	"os/exec"
	"strings"
	"testing"
	"time"

	"tivset/internal/testing/servers"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// turn is what to wait for on the terminal, and what to type then.
type turn struct {
	wait, keys string
	do         func(shown string) // before the keys are typed
}

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
	terminal, err := pty.StartWithSize(c, &pty.Winsize{Rows: 40, Cols: columns})
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
				at := strings.Index(shown.String()[seen:], turns[0].wait)
				if at < 0 {
					break
				}
				seen += at + len(turns[0].wait)
				if turns[0].do != nil {
					turns[0].do(shown.String())
				}
				_, _ = io.WriteString(terminal, turns[0].keys)
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

// A newcomer's install: four answers, the licence and the confirmation.
func TestConversation(t *testing.T) {
	p := newProgram(t)
	shown, code := onTerminal(t, p.as("tivset", nil, "install"),
		on("App:", "5\r"),
		on("Domain:", "lockside.localhost\r"),
		on("Directory [/]:", "forum\r"), see("→ http://lockside.localhost:"),
		on("Title of the site:", "Lockside Talk\r"),
		on("yes, no, or show", "show\r"), see("There is no warranty of any kind"), on("yes, no, or show", "yes\r"),
		see("As usual: name of the first board: General"), on("Choose any of these yourself? yes or no [no]:", "\r"),
		on("Sign-in name of the admin [", "\r"),
		on("E-mail address of the admin:", "w@lockside.localhost\r"),
		on("Password of the admin [made for you]:", "\r"), on("yourself? yes or no [no]:", "\r"),
		see("As usual: database: new"), on("yourself? yes or no [no]:", "\r"),
		see("As usual: takes by itself: fixes"), on("yourself? yes or no [no]:", "\r"),
		on("Install? [y/N]", "y\r"))
	assert.Equal(t, 0, code, shown)
	assert.Contains(t, shown, "Quaybench 2.4.1 is installed and checked")
	var sites []struct{ Title, Address string }
	p.json(&sites, "sites")
	require.Len(t, sites, 1)
	assert.Equal(t, "Lockside Talk", sites[0].Title)
}

// Wrong answers are refused with the reason and asked again; going back, help
// and the end by Ctrl-C work, and leave nothing behind.
func TestConversationWithWrongAnswers(t *testing.T) {
	p := newProgram(t)
	before := p.snapshot()
	shown, code := onTerminal(t, p.as("tivset-minding", nil, "install", "-a", "admin.name=admin"),
		on("App:", "quaybenc\r"), see("Did you mean quaybench?"), on("App:", "9\r"), see("none of them"),
		on("App:", "Inkreach\r"),
		on("Domain:", "?\r"), see("at which visitors will find the site"), on("Domain:", "1\r"),
		on("Directory [blog]:", "/\r"), see("is the account's main site"), see("Something is in the way"), see("index.html"),
		on("Set it aside? yes or no [no]:", "\r"),
		on("Directory [blog]:", "My Blog\r"), see("such as my-blog"),
		on("Directory [blog]:", "<\r"), on("Domain:", "2\r"),
		on("Directory [/]:", "\r"),
		on("Title of the site:", "\r"), see("this needs an answer"), on("Title of the site:", strings.Repeat("x", 130)+"\r"),
		see("more than 120 characters"), on("Title of the site:", " Journal\r"), see("begins or ends with a space"),
		on("Title of the site:", "Journal\r"),
		on("yourself? yes or no [no]:", "perhaps\r"), see("neither yes nor no"), on("yourself? yes or no [no]:", "\r"),
		see("strangers try first"), on("Sign-in name of the admin [", "root\r"), see("strangers try first"),
		on("Sign-in name of the admin [", "wharfinger\r"),
		on("E-mail address of the admin:", "nobody\r"), see("an e-mail address has an @"),
		on("E-mail address of the admin:", "\x03"))
	assert.Equal(t, 3, code, shown)
	assert.Contains(t, shown, "Nothing was touched")
	assert.Equal(t, before, p.snapshot())
}

// What was given and will not do is said before anything is asked.
func TestConversationThatCannotBegin(t *testing.T) {
	p := newProgram(t)
	for _, args := range [][]string{{"install", "quaybenc", "--at", "lockside.localhost/forum"},
		{"install", "quaybench", "--at", "lockside.localhost/forum", "-a", "titel=x"}} {
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
	shown, code := onTerminal(t, p.as("tivset", nil, args...), on("Install? [y/N]", "n\r"))
	assert.Equal(t, 3, code)
	assert.Contains(t, shown, "not installed")
	assert.Equal(t, before, p.snapshot())

	shown, code = onTerminal(t, p.as("tivset-minding", nil, args...), on("Install? [y/N]", "\x03"))
	assert.NotEqual(t, 0, code)
	assert.Equal(t, before, p.snapshot(), shown)

	shown, code = onTerminal(t, p.as("tivset", nil, args...), on("Install? [y/N]", "y\r"))
	assert.Equal(t, 0, code)
	assert.Contains(t, shown, "is installed and checked")
	assert.Contains(t, shown, "shown this once", "on a terminal the password is shown")
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
	for _, words := range []string{"Quaybench 2.4.1 is installed and checked.", "[exit code 3]", "[exit code 1]",
		"waiting: the database server does not answer", "each ended as it should"} {
		assert.Contains(t, string(out), words)
	}
}
