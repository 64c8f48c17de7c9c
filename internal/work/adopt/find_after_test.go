package adopt_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/adopt"
)

// Apps are found wherever they lie, on record or not; what no kit knows is told of once, and
// nothing is changed by looking.
func TestFind(t *testing.T) {
	w := sitetest.Demo(t)
	installed := map[string]string{} // the folders, by address
	for app, at := range sitetest.Apps {
		done, err := w.Install(sitetest.Request(app, at))
		require.NoError(t, err)
		installed[done.Site.Address] = done.Site.Folder
	}
	deep, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/a/b/journal"))
	require.NoError(t, err)
	require.NoError(t, w.Book.Ledger.DropSite(ctx, deep.Site.Address))
	within, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/a/b/journal/old", "1.3.2"))
	require.NoError(t, err)
	require.NoError(t, w.Book.Ledger.DropSite(ctx, within.Site.Address))
	write(t, w, "web/lockside/mine/index.php", "<?php // of somebody")
	write(t, w, "web/lockside/mine/admin/index.php", "<?php // a part of it")
	write(t, w, "web/lockside/pages/index.html", "no app")
	write(t, w, "web/lockside/.hidden/index.php", "<?php")
	before := w.Snapshot()
	seen, err := adopt.Find(ctx, w.Desk, "quillmere")
	require.NoError(t, err)
	sitetest.Same(t, before, w.Snapshot())
	by := map[string]adopt.Sighting{}
	for _, x := range seen.All {
		by[x.Folder] = x
	}
	for address, folder := range installed {
		x := by[folder]
		assert.True(t, x.Recorded, address)
		assert.NotEmpty(t, x.Date, address)
		assert.Empty(t, x.Problem, address)
	}
	assert.True(t, by[deep.Site.Folder].Adoptable())
	old := by[within.Site.Folder]
	assert.Equal(t, []any{"inkreach", "1.3.2", "1.4.0", true}, []any{old.App, old.Release, old.Newest, old.Adoptable()})
	mine := by["web/lockside/mine"]
	assert.Equal(t, "", mine.App)
	assert.NotNil(t, mine.Changed)
	assert.Len(t, seen.All, len(installed)+3, "%v", seen.All)
}

func write(t *testing.T, w *sitetest.World, name, text string) {
	t.Helper()
	file := filepath.Join(w.Root, name)
	require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
}

// A release that the kit does not know, a document root that is gone, and two domains that
// show one folder.
func TestFindWhatIsOdd(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	k, err := w.Book.Catalogue.Find("inkreach")
	require.NoError(t, err)
	mark := filepath.Join(w.Root, done.Site.Folder, k.Known.File)
	text, err := os.ReadFile(mark)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(mark, []byte(strings.ReplaceAll(string(text), done.Site.Release, "9.9.9")), 0o644))
	require.NoError(t, w.Book.Ledger.DropSite(ctx, done.Site.Address))
	w.EditAccount(func(a *account.Account) {
		again := a.Domains[0]
		for _, d := range a.Domains {
			if d.Name == "lockside.localhost" {
				again = d
			}
		}
		again.Name, again.URL, again.Primary = "lock.localhost", "http://lock.localhost", false
		a.Domains = append(a.Domains, again, account.Domain{Name: "gone.localhost", Folder: "web/gone",
			URL: "http://gone.localhost"})
	})
	seen, err := adopt.Find(ctx, w.Desk, "quillmere")
	require.NoError(t, err)
	require.Len(t, seen.All, 1)
	x := seen.All[0]
	assert.Equal(t, "9.9.9", x.Release)
	assert.False(t, x.Adoptable())
	assert.Contains(t, x.Problem, "its release is none that the kit knows")
	assert.Equal(t, []string{"web/gone"}, seen.Unread)
}
