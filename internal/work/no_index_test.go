package work_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/chaos"
	"tivset/internal/trial/servers"
	"tivset/internal/work/update"
)

// An app without a page for its folder, on a server that lists folders: the notice answers the folder itself, so
// that the site can be closed at all.
func TestClosingWithoutAnIndex(t *testing.T) {
	servers.Slow(t)
	g := chaos.NewGround(t, servers.Apache)
	w := g.World(t, "local")
	done, err := w.Install(chaos.Request("lockside.localhost/forum", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	folder := filepath.Join(w.Root, done.Site.Folder)
	require.NoError(t, os.Rename(filepath.Join(folder, "index.php"), filepath.Join(folder, "board.php")))
	require.NoError(t, os.WriteFile(filepath.Join(folder, ".htaccess"), []byte("Options +Indexes\n"), 0o644))
	_, body, err := g.Visitor(done.Site.URL).LeadsTo(ctx, done.Site.URL)
	require.NoError(t, err)
	require.Contains(t, string(body), "Index of", "the server lists the folder")
	_, err = update.To(ctx, w.Desk, update.Request{Site: done.Site.Address, Release: "2.0.0"})
	require.NoError(t, err, "%v", fault.Of(err))
}
