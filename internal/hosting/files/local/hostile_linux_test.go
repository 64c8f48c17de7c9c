package local_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"tivset/internal/hosting/files"
)

// Root runs a program where it was told to, as the account's user: whatever its user exchanges folders for meanwhile,
// and though a folder in it belongs to root.
func TestProgramsRunAsTheAccountsUser(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root runs programs as others")
	}
	top, outside := t.TempDir(), t.TempDir()
	for _, name := range []string{"web", "roots"} {
		require.NoError(t, os.Mkdir(filepath.Join(top, name), 0o755))
	}
	for _, name := range []string{top, filepath.Join(top, "web")} {
		require.NoError(t, os.Chown(name, 12345, 12346))
	}
	require.NoError(t, os.Chmod(filepath.Dir(top), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(outside, "job.sh"), []byte("echo outside\n"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(top, "web", "job.sh"), []byte("echo inside\n"), 0o755))
	require.NoError(t, os.Symlink(outside, filepath.Join(top, "link")))
	f := open(t, top)
	out, err := f.Command(context.Background(), "roots", []string{"/usr/bin/id", "-u"}, "")
	require.NoError(t, err)
	assert.Equal(t, "12345", strings.TrimSpace(string(out)), "a folder of root's")

	over := make(chan struct{})
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		for {
			select {
			case <-over:
				return
			default:
				_ = unix.Renameat2(unix.AT_FDCWD, filepath.Join(top, "web"), unix.AT_FDCWD, filepath.Join(top, "link"),
					unix.RENAME_EXCHANGE)
			}
		}
	}()
	ran := 0
	for range 400 {
		out, err := f.Command(context.Background(), "web", []string{"/bin/sh", "-c", "sh ./job.sh; id -u"}, "")
		if err != nil {
			continue // it is a link now, which leads nowhere
		}
		ran++
		assert.Equal(t, "inside\n12345\n", string(out))
	}
	close(over)
	<-ended
	assert.Positive(t, ran)
}

// A pipe is no file: nobody waits until somebody writes into it.
func TestPipesAreNotWaitedFor(t *testing.T) {
	top := t.TempDir()
	for _, name := range []string{".htaccess", "folder"} {
		require.NoError(t, syscall.Mkfifo(filepath.Join(top, name), 0o644))
	}
	f := open(t, top)
	done := make(chan struct{})
	go func() {
		defer close(done)
		ctx := context.Background()
		_, err := f.Open(ctx, ".htaccess")
		assert.ErrorContains(t, err, "it is no file")
		_, err = files.Read(ctx, f, ".htaccess", 100)
		assert.Error(t, err)
		_, err = f.List(ctx, "folder")
		assert.Error(t, err)
		_, err = f.Command(ctx, "folder", []string{"/bin/true"}, "")
		assert.Error(t, err)
		_, err = f.Create(ctx, "folder/x", 0o644)
		assert.Error(t, err)
		assert.Error(t, f.Rename(ctx, ".htaccess", "folder/y"))
		assert.NoError(t, f.Remove(ctx, ".htaccess"))
	}()
	select {
	case <-done:
	case <-time.After(10 * time.Second):
		require.Fail(t, "it waits for the pipe")
	}
}
