package files_test

import (
	"bytes"
	"context"
	"io"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/local"
)

// A log that was small when it was listed, one that grew since, and one that went: all are handed over as
// they are now.
func TestFilesThatGrowWhileTheyAreRead(t *testing.T) {
	ctx, home := context.Background(), t.TempDir()
	f, err := local.Open(home)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	for _, name := range []string{"a", "log", "went", "z"} {
		require.NoError(t, os.WriteFile(filepath.Join(home, name), []byte("short"), 0o644))
	}
	list, err := files.Tree(ctx, f, ".", nil)
	require.NoError(t, err)
	grown := bytes.Repeat([]byte("line\n"), 100_000)
	require.NoError(t, os.WriteFile(filepath.Join(home, "log"), grown, 0o644))
	require.NoError(t, os.Remove(filepath.Join(home, "went")))
	got := map[string]int{}
	require.NoError(t, files.ReadAll(ctx, f, list, func(found files.Found, content io.Reader) error {
		text, err := io.ReadAll(content)
		assert.Equal(t, found.Size, int64(len(text)), found.Path)
		got[found.Path] = len(text)
		return err
	}))
	assert.Equal(t, map[string]int{"a": 5, "log": len(grown), "z": 5}, got)
}
