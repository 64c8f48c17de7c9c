package local_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/filestest"
	"tivset/internal/hosting/files/local"
)

func open(t *testing.T, top string) *local.FS {
	t.Helper()
	f, err := local.Open(top)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return f
}

func TestConformance(t *testing.T) {
	filestest.Run(t, func(t *testing.T) files.FS { return open(t, t.TempDir()) })
}

// No link in the account leads out of it.
func TestLinksStayInside(t *testing.T) {
	ctx, outside, top := context.Background(), t.TempDir(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "precious"), []byte("x"), 0o600))
	require.NoError(t, os.Symlink(outside, filepath.Join(top, "out")))
	require.NoError(t, os.Symlink("../../../etc", filepath.Join(top, "up")))
	f := open(t, top)
	_, err := f.Open(ctx, "out/precious")
	assert.Error(t, err)
	_, err = f.Create(ctx, "out/new", 0o644)
	assert.Error(t, err)
	_, err = f.List(ctx, "up")
	assert.Error(t, err)
	assert.Error(t, f.Rename(ctx, "out/precious", "stolen"))
	assert.Error(t, f.Remove(ctx, "out/precious"))
	require.NoError(t, f.RemoveAll(ctx, "out"))
	_, err = os.Stat(filepath.Join(outside, "precious"))
	assert.NoError(t, err, "the link goes, what it leads to stays")
	free, err := f.Free(ctx)
	require.NoError(t, err)
	assert.Positive(t, free)
}

// A program that runs for the account gets nothing of the operator's
// environment, in which passwords may be.
func TestCommandsGetACleanEnvironment(t *testing.T) {
	t.Setenv("DB_PASSWORD", "Kranich-Teekanne-74")
	t.Setenv("SSH_AUTH_SOCK", "/run/agent")
	top := t.TempDir()
	out, err := open(t, top).Command(context.Background(), ".", []string{"env"}, "")
	require.NoError(t, err)
	assert.NotContains(t, string(out), "Kranich")
	assert.NotContains(t, string(out), "SSH_AUTH_SOCK")
	assert.Contains(t, string(out), "HOME="+top)
}

// A folder that another program took away and made again is found again.
func TestFoldersThatOthersMakeAnew(t *testing.T) {
	ctx := context.Background()
	top := t.TempDir()
	f := open(t, top)
	require.NoError(t, f.Mkdir(ctx, "busy", 0o755))
	require.NoError(t, files.Write(ctx, f, "busy/one", []byte("1"), 0o644))
	require.NoError(t, os.RemoveAll(filepath.Join(top, "busy")))
	assert.ErrorIs(t, files.Write(ctx, f, "busy/two", []byte("2"), 0o644), fs.ErrNotExist)
	require.NoError(t, os.Mkdir(filepath.Join(top, "busy"), 0o755))
	require.NoError(t, files.Write(ctx, f, "busy/two", []byte("2"), 0o644))
	assert.FileExists(t, filepath.Join(top, "busy/two"))
}
