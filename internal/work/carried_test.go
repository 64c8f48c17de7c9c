package work_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/place"
	"tivset/internal/work/restore"
)

// knowsItsPlace sees that an app that remembers where it is has it right, in its
// database and in its file.
func knowsItsPlace(t *testing.T, w *sitetest.World, x ledger.Site) {
	t.Helper()
	folder, data := filepath.Join(w.Root, x.Folder), filepath.Join(w.Root, x.DataFolder)+"/log.txt"
	assert.Equal(t, fmt.Sprintf(`a:3:{s:4:"home";s:%d:"%s";s:6:"folder";s:%d:"%s";s:4:"data";s:%d:"%s";}`,
		len(x.URL), x.URL, len(folder), folder, len(data), data),
		w.Value(x, "SELECT value FROM {tables}facts WHERE name = 'place'"))
	text, err := os.ReadFile(filepath.Join(w.Root, x.DataFolder, "place.json"))
	require.NoError(t, err)
	var kept map[string]string
	require.NoError(t, json.Unmarshal(text, &kept))
	assert.Equal(t, map[string]string{"home": x.URL, "folder": folder, "data": data}, kept)
	assert.Equal(t, "see "+x.URL+"deep?a=1", w.Value(x, "SELECT body FROM {tables}entries LIMIT 1"))
}

// All that changes with a place is carried: address, folders, wherever an app has
// put them, without the kit naming each.
func TestWhatChangesWithThePlace(t *testing.T) {
	g := chaos.NewGround(t, servers.PHPWeb)
	w := g.World(t, "local")
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	w.Query(done.Site, "INSERT INTO {tables}entries (body) VALUES ('see "+done.Site.URL+"deep?a=1')")
	knowsItsPlace(t, w, done.Site)
	old, err := backup.Make(ctx, w.Desk, backup.Request{Site: done.Site.Address, Into: t.TempDir()})
	require.NoError(t, err)

	copied := w.Copy(place.Request{Site: done.Site.Address, At: "chandlery.localhost/try"})
	knowsItsPlace(t, w, copied.Site)
	knowsItsPlace(t, w, done.Site)
	assert.NotContains(t, strings.Join(copied.Warnings, " "), "stands in")
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, done.Site.Folder, "uploads/list.txt"),
		[]byte("all is at "+done.Site.URL+"deep\n"), 0o644))
	told := w.Copy(place.Request{Site: done.Site.Address, At: "chandlery.localhost/told"})
	assert.Contains(t, strings.Join(told.Warnings, " "), "still stands in 1 of the files that the app has written, such "+
		"as uploads/list.txt")
	assert.Equal(t, copied.Site.URL, w.Value(copied.Site, "SELECT value FROM {tables}facts WHERE name = 'moved'"))
	moved := w.Copy(place.Request{Site: done.Site.Address, At: "chandlery.localhost/talk", Move: true})
	knowsItsPlace(t, w, moved.Site)
	_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: moved.Site.Address, From: old.File})
	require.NoError(t, err, "%v", fault.Of(err))
	knowsItsPlace(t, w, moved.Site)
	again, err := restore.Restore(ctx, w.Desk, restore.Request{Site: "lockside.localhost/again", From: old.File})
	require.NoError(t, err, "%v", fault.Of(err))
	knowsItsPlace(t, w, again.Site)
}
