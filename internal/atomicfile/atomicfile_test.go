package atomicfile_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/atomicfile"
)

func names(t *testing.T, dir string) (out []string) {
	t.Helper()
	all, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range all {
		out = append(out, e.Name())
	}
	return out
}

func TestWrite(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "vault")
	for _, text := range []string{"one", "another", ""} {
		require.NoError(t, atomicfile.Write(file, []byte(text), 0o600))
		got, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, text, string(got))
	}
	require.NoError(t, atomicfile.Write(file, nil, 0o644))
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o644), info.Mode().Perm())
	assert.Equal(t, []string{"vault"}, names(t, dir), "nothing is left beside it")
	assert.ErrorIs(t, atomicfile.Write(filepath.Join(dir, "none/x"), nil, 0o600), fs.ErrNotExist)
}

// What was begun and not completed changes nothing, and leaves nothing.
func TestCancelled(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "vault")
	require.NoError(t, atomicfile.Write(file, []byte("whole"), 0o600))
	f, err := atomicfile.Create(file, 0o600)
	require.NoError(t, err)
	_, err = f.WriteString("half")
	require.NoError(t, err)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "whole", string(text))
	require.NoError(t, f.Cancel())
	require.NoError(t, f.Cancel())
	assert.ErrorIs(t, f.Replace(), fs.ErrClosed)
	assert.Equal(t, []string{"vault"}, names(t, dir))

	// A folder in the way: the name cannot be taken, and what was there stays.
	taken := filepath.Join(dir, "folder")
	require.NoError(t, os.MkdirAll(filepath.Join(taken, "x"), 0o755))
	assert.Error(t, atomicfile.Write(taken, []byte("x"), 0o600))
	assert.Equal(t, []string{"folder", "vault"}, names(t, dir))
	f, err = atomicfile.Create(file, 0o600)
	require.NoError(t, err)
	require.NoError(t, f.Replace())
	require.NoError(t, f.Cancel(), "it has taken its place")
	assert.FileExists(t, file)
}
