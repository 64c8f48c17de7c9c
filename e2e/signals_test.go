//go:build unix

package e2e

import (
	"io"
	"os/exec"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// A program that waits for something which hears of no interrupt ends with the second signal, at once; a terminal that
// closes, which says so more than once, is no such wish.
func TestTheSecondSignalEndsAtOnce(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	begin := func() (*exec.Cmd, chan struct{}) {
		c := p.as("tivset-minding", nil, "install", "inkreach", "--table", "-", "--yes")
		_, err := c.StdinPipe() // nobody ever writes
		require.NoError(t, err)
		c.Stderr = io.Discard
		require.NoError(t, c.Start())
		ended := make(chan struct{})
		go func() {
			_ = c.Wait()
			close(ended)
		}()
		t.Cleanup(func() { _ = c.Process.Kill(); <-ended })
		time.Sleep(time.Second)
		return c, ended
	}
	within := func(ended chan struct{}, d time.Duration) bool {
		select {
		case <-ended:
			return true
		case <-time.After(d):
			return false
		}
	}
	c, ended := begin()
	require.NoError(t, c.Process.Signal(syscall.SIGTERM))
	require.False(t, within(ended, time.Second), "the first is waited out")
	require.NoError(t, c.Process.Signal(syscall.SIGTERM))
	require.True(t, within(ended, 5*time.Second))
	assert.Equal(t, 4, c.ProcessState.ExitCode())

	c, ended = begin()
	for range 3 {
		require.NoError(t, c.Process.Signal(syscall.SIGHUP))
		assert.False(t, within(ended, 700*time.Millisecond))
	}
}
