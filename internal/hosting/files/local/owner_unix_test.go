//go:build unix

package local_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/filestest"
)

func TestUnusualUmask(t *testing.T) {
	old := syscall.Umask(0o077)
	defer syscall.Umask(old)
	filestest.Run(t, func(t *testing.T) files.FS { return open(t, t.TempDir()) })
}

// Run as root, what is made belongs to the owner of the account's folder.
func TestBelongsToTheOwner(t *testing.T) {
	if os.Geteuid() != 0 {
		t.Skip("only root makes files for others")
	}
	ctx, top := context.Background(), t.TempDir()
	require.NoError(t, os.Chown(top, 12345, 12346))
	filestest.Run(t, func(t *testing.T) files.FS {
		dir := t.TempDir()
		require.NoError(t, os.Chown(dir, 12345, 12346))
		return open(t, dir)
	})
	f := open(t, top)
	require.NoError(t, f.Mkdir(ctx, "d", 0o755))
	require.NoError(t, files.Write(ctx, f, "d/x", []byte("x"), 0o640))
	for _, name := range []string{"d", "d/x"} {
		info, err := os.Stat(filepath.Join(top, name))
		require.NoError(t, err)
		s := info.Sys().(*syscall.Stat_t)
		assert.Equal(t, [2]uint32{12345, 12346}, [2]uint32{s.Uid, s.Gid}, name)
	}
	info, err := os.Stat(filepath.Join(top, "d/x"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
}
