package ledger_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/ledger"
)

// A folder may be called whatever folders are: the ledger is in the file of that name, which only its owner reads, and
// nothing else comes to be.
func TestOddFolders(t *testing.T) {
	for _, name := range []string{"a#b", "a?mode=memory", "a%20b", "a b", "\u00e9\u65e5", "a&b=c", "100%"} {
		top := t.TempDir()
		file := filepath.Join(top, name, "ledger.db")
		require.NoError(t, os.Mkdir(filepath.Dir(file), 0o700))
		l, err := ledger.Open(context.Background(), file)
		require.NoError(t, err, name)
		require.NoError(t, l.PutRedirect(context.Background(), ledger.Redirect{Address: "x.localhost/a"}))
		require.NoError(t, l.Close())
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Positive(t, info.Size(), name)
		assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
		entries, err := os.ReadDir(top)
		require.NoError(t, err)
		assert.Len(t, entries, 1, name)
		again, err := ledger.Open(context.Background(), file)
		require.NoError(t, err)
		found, err := again.Redirects(context.Background())
		require.NoError(t, err)
		assert.Len(t, found, 1, name)
		require.NoError(t, again.Close())
	}
}
