package repair_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/repair"
	"tivset/internal/work/restore"
)

var ctx = context.Background()

// damaged is a site whose owner has lived with it: a file of the release was
// changed, one is gone, and there are a file, an entry and a setting of the
// owner's own.
func damaged(t *testing.T) (w *sitetest.World, at, folder string) {
	t.Helper()
	w = sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	at, folder = done.Site.Address, filepath.Join(w.Root, done.Site.Folder)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "about.page"), []byte("hacked"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(folder, "licence.txt")))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "mine.txt"), []byte("mine"), 0o600))
	w.Query(done.Site, "UPDATE {tables}facts SET value = 'A title of today' WHERE name = 'title'")
	settings := filepath.Join(folder, "config", "settings.php")
	text, err := os.ReadFile(settings)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(settings, append(text, []byte("\n// the owner's own line\n")...), 0o640))
	return w, at, folder
}

// The release's own files come back; what the owner changed since stays: data,
// settings, files of their own. The backup has the damage.
func TestRepairKeepsWhatIsTheOwners(t *testing.T) {
	w, at, folder := damaged(t)
	x, err := w.Book.Find(ctx, at)
	require.NoError(t, err)
	data := w.Dump(x)
	done, err := repair.Repair(ctx, w.Desk, at)
	require.NoError(t, err)
	assert.Equal(t, []string{"about.page", "licence.txt"}, done.Files)
	assert.FileExists(t, filepath.Join(folder, "licence.txt"))
	page, err := os.ReadFile(filepath.Join(folder, "about.page"))
	require.NoError(t, err)
	assert.NotContains(t, string(page), "hacked")
	settings, err := os.ReadFile(filepath.Join(folder, "config", "settings.php"))
	require.NoError(t, err)
	assert.Contains(t, string(settings), "the owner's own line")
	assert.FileExists(t, filepath.Join(folder, "mine.txt"))
	assert.Equal(t, data, w.Dump(x))

	_, err = repair.Repair(ctx, w.Desk, at)
	require.ErrorIs(t, err, repair.ErrNothing)

	_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: at, From: filepath.Base(done.Backup.File), NoBackup: true})
	require.NoError(t, err)
	page, err = os.ReadFile(filepath.Join(folder, "about.page"))
	require.NoError(t, err)
	assert.Equal(t, "hacked", string(page), "the backup is of what was there before")
}

// A repair whose check fails leaves the site as it was, damage and all, and
// says what stopped it.
func TestRepairThatDoesNotHelpIsTakenBack(t *testing.T) {
	w, at, _ := damaged(t)
	before := w.Snapshot()
	w.Trip.FailOn("web POST") // nobody can sign in any more
	_, err := repair.Repair(ctx, w.Desk, at)
	w.Trip.FailOn()
	require.Error(t, err)
	f := fault.Of(err)
	assert.Equal(t, fault.Failed, f.Kind)
	assert.Contains(t, f.Details, "The site is as it was.")
	sitetest.Same(t, before, w.Snapshot())

	// where the release cannot be read nothing begins
	require.NoError(t, os.RemoveAll(filepath.Join(w.Demo.Folder, "demo", "catalogue", "inkreach")))
	_, err = repair.Repair(ctx, w.Desk, at)
	require.Error(t, err)
	assert.NotEmpty(t, fault.Of(err).Remedy)
	sitetest.Same(t, before, w.Snapshot())
}

// All that a check names of the site's own files a repair mends, and an undo has
// it again; then there is nothing to repair.
func TestRepairMendsWhatACheckNames(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	at, folder := done.Site.Address, filepath.Join(w.Root, done.Site.Folder)
	require.NoError(t, os.Chmod(filepath.Join(folder, "about.page"), 0o666))
	require.NoError(t, os.Chmod(filepath.Join(folder, "config"), 0o777))
	require.NoError(t, os.Chmod(filepath.Join(folder, "config/settings.php"), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "schema"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "schema/mariadb.sql"), []byte("-- left"), 0o644))
	before := w.Snapshot()
	_, fine := sitetest.Examined(t, w, at)
	assert.False(t, fine["permissions"] || fine["leftovers"])

	w.Trip.FailOn("web POST")
	_, err = repair.Repair(ctx, w.Desk, at)
	w.Trip.FailOn()
	require.Error(t, err)
	sitetest.Same(t, before, w.Snapshot())

	repaired, err := repair.Repair(ctx, w.Desk, at)
	require.NoError(t, err)
	assert.Empty(t, repaired.Files)
	assert.Equal(t, []string{"schema"}, repaired.Taken)
	assert.Equal(t, []string{"about.page", "config", "config/settings.php"}, repaired.Closed)
	e, fine := sitetest.Examined(t, w, at)
	assert.True(t, fine["permissions"] && fine["leftovers"] && fine["files"], "%v", e.Checks)
	assert.NoDirExists(t, filepath.Join(folder, "schema"))
	_, err = repair.Repair(ctx, w.Desk, at)
	require.ErrorIs(t, err, repair.ErrNothing)
}
