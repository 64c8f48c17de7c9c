package e2e

import (
	"bytes"
	"io"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// onTerminal runs the program in a pseudo-terminal, types once it asks, and
// gives all that it showed.
func onTerminal(t *testing.T, c *exec.Cmd, wait, keys string) (string, int) {
	t.Helper()
	c.Env = append(c.Env, "TERM=xterm-256color")
	terminal, err := pty.StartWithSize(c, &pty.Winsize{Rows: 40, Cols: 100})
	require.NoError(t, err)
	defer terminal.Close()
	var shown bytes.Buffer
	done := make(chan struct{})
	go func() {
		defer close(done)
		part := make([]byte, 4096)
		typed := false
		for {
			n, err := terminal.Read(part)
			shown.Write(part[:n])
			if !typed && strings.Contains(shown.String(), wait) {
				typed = true
				_, _ = io.WriteString(terminal, keys)
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
		t.Fatalf("no end; it showed:\n%s", shown.String())
	}
	_ = c.Wait()
	return shown.String(), c.ProcessState.ExitCode()
}

func TestConfirmation(t *testing.T) {
	p := newProgram(t)
	args := install("inkwater", "lockside.localhost/journal")
	args = args[:len(args)-1] // without --yes
	before := p.snapshot()
	shown, code := onTerminal(t, p.as("tivset", nil, args...), "Install? [y/N]", "n\r")
	assert.Equal(t, 3, code)
	assert.Contains(t, shown, "not installed")
	assert.Equal(t, before, p.snapshot())

	shown, code = onTerminal(t, p.as("tivset-minding", nil, args...), "Install? [y/N]", "\x03")
	assert.NotEqual(t, 0, code)
	assert.Equal(t, before, p.snapshot(), shown)

	shown, code = onTerminal(t, p.as("tivset", nil, args...), "Install? [y/N]", "y\r")
	assert.Equal(t, 0, code)
	assert.Contains(t, shown, "is installed and checked")
	assert.Contains(t, shown, "shown this once", "on a terminal the password is shown")
	var creds struct{ Admin struct{ Password string } }
	p.json(&creds, "reveal", "journal")
	assert.Contains(t, shown, creds.Admin.Password)
}

// The demo runs until it is interrupted; its tour ends by itself.
func TestDemo(t *testing.T) {
	p := newProgram(t)
	c := p.as("tivset-minding", []string{"TIVSET_HOME="}, "demo", "--tour")
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, words := range []string{"Moorings 2.4.1 is installed and checked.", "[exit code 3]", "[exit code 1]", "waiting: the database server does not answer", "each ended as it should"} {
		assert.Contains(t, string(out), words)
	}
}
