package step

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/local"
)

// Moves are taken back as far as they were made, wherever they stopped, also
// where one takes on what another brought.
func TestMovesAreTakenBackAsFarAsTheyWereMade(t *testing.T) {
	moves := []files.Move{{From: "live/page", To: "replaced/page"}, {From: "stage/page", To: "live/page"},
		{From: "web/page", To: "board/page"}, {From: "live/page", To: "web/page"}, {From: "live/more", To: "web/more"}}
	for stop := range len(moves) + 1 {
		dir := t.TempDir()
		f, err := local.Open(dir)
		require.NoError(t, err)
		for _, name := range []string{"live/page", "stage/page", "web/page", "live/more", "replaced/x", "board/x"} {
			full := filepath.Join(dir, name)
			require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
			require.NoError(t, os.WriteFile(full, []byte(name), 0o644))
		}
		before := contents(t, dir)
		for _, m := range moves[:stop] {
			require.NoError(t, f.Rename(context.Background(), m.From, m.To))
		}
		tools := &Tools{In: &hosting.Account{Files: f}}
		n, err := tools.made(context.Background(), moves)
		require.NoError(t, err)
		assert.Equal(t, stop, n)
		require.NoError(t, tools.moveBack(context.Background(), moves))
		assert.Equal(t, before, contents(t, dir), "stopped after %d", stop)
		require.NoError(t, f.Close())
	}
}

// contents lists the files of a folder with what is in them.
func contents(t *testing.T, dir string) string {
	t.Helper()
	var out strings.Builder
	require.NoError(t, filepath.WalkDir(dir, func(name string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := os.ReadFile(name)
		out.WriteString(strings.TrimPrefix(name, dir) + "=" + string(text) + "\n")
		return err
	}))
	return out.String()
}
