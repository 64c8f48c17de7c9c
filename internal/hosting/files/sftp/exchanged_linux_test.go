package sftp_test

import (
	"math/rand/v2"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"tivset/internal/hosting/files"
	"tivset/internal/hosting/ssh"
	"tivset/internal/trial/servers"
)

// A program on the site exchanges a folder for a link, and back, all the time: nothing of what is outside is read, and
// nothing is written there.
func TestExchangedAllTheTime(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root can read what is not the account's")
	}
	real := servers.OpenSSH(t, "")
	outside, home := t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "a"), []byte("of root"), 0o600))
	web, was := filepath.Join(home, "web"), filepath.Join(home, "was")
	require.NoError(t, os.Mkdir(web, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(web, "a"), []byte("of the site"), 0o644))
	require.NoError(t, os.Chown(filepath.Join(web, "a"), 33, 33))
	require.NoError(t, os.Symlink(outside, was))
	f := open(t, ssh.Login{Address: real.Address, User: real.User, Key: real.Key},
		trusting(t, real.Address, real.Fingerprint), home)
	ended, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		for {
			select {
			case <-ended:
				return
			case <-time.After(time.Duration(rand.IntN(3000)) * time.Microsecond):
				_ = unix.Renameat2(unix.AT_FDCWD, web, unix.AT_FDCWD, was, unix.RENAME_EXCHANGE)
			}
		}
	}()
	read, refused := 0, 0
	for n := range 600 {
		text, err := files.Read(ctx, f, "web/a", 100)
		if err != nil {
			refused++
		} else if read++; !assert.Equal(t, "of the site", string(text)) {
			break
		}
		_ = files.Write(ctx, f, "web/"+strconv.Itoa(n), []byte("x"), 0o644) // refused, or in the site
	}
	close(ended)
	<-stopped
	assert.Positive(t, read)
	assert.Positive(t, refused)
	there, err := os.ReadDir(outside)
	require.NoError(t, err)
	for _, x := range there {
		text, err := os.ReadFile(filepath.Join(outside, x.Name()))
		require.NoError(t, err)
		assert.NotEqual(t, "x", string(text), "%s was written outside", x.Name())
	}
}
