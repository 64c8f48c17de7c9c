package step

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/local"
)

func TestRulesLeaveLast(t *testing.T) {
	names := []string{"web/a/.htaccess", "web/a/config.php", "web/a/.user.ini", "web/a/lib"}
	assert.Equal(t, []string{"web/a/config.php", "web/a/lib", "web/a/.htaccess", "web/a/.user.ini"}, rulesLast(names))
	assert.Equal(t, "web/a/.htaccess", names[0], "the list itself stays")
}

// watched are files over a line that takes one call after the other, with a
// stranger who looks after each.
type watched struct {
	files.FS
	look func()
}

func (w watched) Remove(ctx context.Context, name string) error {
	defer w.look()
	return w.FS.Remove(ctx, name)
}

func (w watched) Rename(ctx context.Context, from, to string) error {
	defer w.look()
	return w.FS.Rename(ctx, from, to)
}

// At no moment is a configuration in the web without the rule that hides it,
// be the rule beside it or in its folder's.
func TestNoConfigurationWithoutItsRule(t *testing.T) {
	root := t.TempDir()
	put := func(name string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(root, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte("x"), 0o600))
	}
	there := func(name string) bool {
		_, err := os.Stat(filepath.Join(root, name))
		return err == nil
	}
	f, err := local.Open(root)
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	looked := 0
	w := watched{f, func() {
		looked++
		assert.False(t, there("web/config/settings.php") && !there("web/config/.htaccess"), "the folder's, look %d", looked)
		assert.False(t, there("web/settings.ini") && !there("web/.htaccess"), "the one beside it, look %d", looked)
	}}
	tools := &Tools{Job: "j", In: &hosting.Account{Account: &account.Account{Store: ".tivset"}, Files: w}}
	for range 2 { // the second time like after a cut: something is left in the store
		for _, name := range []string{"web/.htaccess", "web/settings.ini", "web/config/.htaccess", "web/config/settings.php",
			"web/others.txt"} {
			put(name)
		}
		require.NoError(t, tools.takeAway(context.Background(), "web/.htaccess", "web/config", "web/none",
			"web/settings.ini"))
		assert.False(t, there("web/config") || there("web/settings.ini") || there("web/.htaccess"))
		assert.True(t, there("web/others.txt"))
		assert.False(t, there(".tivset"), "nothing is left in the store")
		put(".tivset/stage/j-gone/0/left")
	}
	assert.Greater(t, looked, 10)
}
