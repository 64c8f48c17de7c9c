package work_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/restore"
)

// carriedOnto restores an old backup onto a site, and sees that the site is whole:
// at once, and when PHP has looked at its files again.
func carriedOnto(t *testing.T, w *sitetest.World, at, from string) ledger.Site {
	t.Helper()
	x, err := w.Book.Find(ctx, at)
	require.NoError(t, err)
	w.Query(x, "INSERT INTO {tables}entries (body) VALUES ('newer than the backup')")
	back, err := restore.Restore(ctx, w.Desk, restore.Request{Site: at, From: from})
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, x.Database, back.Site.Database)
	assert.Equal(t, x.URL, back.Site.URL)
	assert.Equal(t, "0", w.Value(x, "SELECT COUNT(*) FROM {tables}entries WHERE body LIKE 'newer%'"))
	assert.Equal(t, x.URL, w.Value(x, "SELECT value FROM {tables}facts WHERE name = 'address'"))
	text, err := os.ReadFile(filepath.Join(w.Root, x.Folder, "config.php"))
	require.NoError(t, err)
	for _, now := range []string{x.Database.Name, x.Database.User, x.URL, x.DataFolder} {
		assert.Contains(t, string(text), now)
	}
	for range 2 {
		_, fine := sitetest.Examined(t, w, at)
		for _, name := range []string{"front page", "sign-in", "database", "files", "as it is"} {
			assert.True(t, fine[name], name)
		}
		time.Sleep(2500 * time.Millisecond)
	}
	return back.Site
}

// A backup is older than the site's place, its database and its password. It is
// carried onto what the site has now, and not the other way round.
func TestBackupsOlderThanThePlace(t *testing.T) {
	g := chaos.NewGround(t, servers.PHPWeb)
	w := g.World(t, "local")
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	old, err := backup.Make(ctx, w.Desk, backup.Request{Site: done.Site.Address, Into: t.TempDir()})
	require.NoError(t, err)

	moved := w.Copy(place.Request{Site: done.Site.Address, At: "chandlery.localhost/talk", Move: true})
	assert.NotEqual(t, done.Site.Database.Name, moved.Site.Database.Name)
	carriedOnto(t, w, moved.Site.Address, old.File)

	// Removed, and brought back to the same place: all is made anew.
	kept, err := backup.Make(ctx, w.Desk, backup.Request{Site: moved.Site.Address, Into: t.TempDir()})
	require.NoError(t, err)
	w.Remove(remove.Request{Site: moved.Site.Address, NoBackup: true, WithAdded: true})
	again, err := restore.Restore(ctx, w.Desk, restore.Request{Site: moved.Site.URL, From: kept.File})
	require.NoError(t, err, "%v", fault.Of(err))
	carriedOnto(t, w, again.Site.Address, old.File)
	carriedOnto(t, w, again.Site.Address, kept.File)

	// The domain of the backup's time is not the account's any more.
	w.EditAccount(func(a *account.Account) {
		a.Domains = slices.DeleteFunc(a.Domains, func(d account.Domain) bool { return d.Name == "lockside.localhost" })
	})
	carriedOnto(t, w, again.Site.Address, old.File)
	w.Remove(remove.Request{Site: again.Site.Address, NoBackup: true, WithAdded: true})
	last, err := restore.Restore(ctx, w.Desk, restore.Request{Site: again.Site.URL, From: old.File})
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, again.Site.URL, last.Site.URL)
}
