package remove_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
	"tivset/internal/work/remove"
	"tivset/internal/work/restore"
)

// The outer of two sites goes, and nothing of the inner one.
func TestOuterSiteRemoved(t *testing.T) {
	w := sitetest.Demo(t)
	outer, err := w.Install(sitetest.Request("inkreach", "lockside.localhost"))
	require.NoError(t, err)
	inner, err := w.Install(sitetest.Request("lampshelf", "lockside.localhost/pictures"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, outer.Site.Folder, "parts", "mine.txt"), []byte("mine"), 0o600))
	done := w.Remove(remove.Request{Site: outer.Site.Address})
	assert.Equal(t, []string{outer.Site.Folder + "/parts/mine.txt", inner.Site.Folder}, done.Plan.Stays)
	assert.FileExists(t, filepath.Join(w.Root, outer.Site.Folder, "parts", "mine.txt"))
	assert.NoFileExists(t, filepath.Join(w.Root, outer.Site.Folder, "index.page"))
	e, _ := sitetest.Examined(t, w, inner.Site.Address)
	assert.True(t, e.OK, "%v", e.Checks)
	assert.FileExists(t, filepath.Join(w.Root, done.Backup.File))
}

// The last backup of a site that was removed brings it back.
func TestRemovedAndBack(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := restore.Restore(ctx, w.Desk, restore.Request{Site: "lockside.localhost/journal"})
	require.ErrorContains(t, err, "no site has this address")
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	before := w.Dump(done.Site)
	w.Remove(remove.Request{Site: "journal"})
	back, err := restore.Restore(ctx, w.Desk, restore.Request{Site: "lockside.localhost/journal"})
	require.NoError(t, err)
	assert.Equal(t, before, w.Dump(back.Site))
	e, _ := sitetest.Examined(t, w, back.Site.Address)
	assert.True(t, e.OK, "%v", e.Checks)
}

// Of a database that is shared only the site's tables go, and only one half
// when only that is wanted.
func TestSharedDatabaseRemoved(t *testing.T) {
	sitetest.OnBoth(t, func(t *testing.T, w *sitetest.World) {
		first, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
		require.NoError(t, err)
		creds, err := w.Book.Reveal(ctx, first.Site.Address)
		require.NoError(t, err)
		shared := sitetest.Request("inkreach", "chandlery.localhost/news")
		for id, v := range map[string]string{"data.from": "existing", "data.name": first.Site.Database.Name,
			"data.user": first.Site.Database.User, "data.password": creds.Data.Reveal(), "data.tables": "two_"} {
			shared.Answers[id] = v
		}
		second, err := w.Install(shared)
		require.NoError(t, err)
		w.Query(second.Site, "DELETE FROM {tables}entries WHERE id = 2")
		w.Remove(remove.Request{Site: second.Site.Address, Only: "data", NoBackup: true})
		half, err := w.Book.Find(ctx, second.Site.Address)
		require.NoError(t, err)
		assert.Equal(t, "data", half.Gone)
		assert.FileExists(t, filepath.Join(w.Root, half.Folder, "index.page"))
		assert.NotContains(t, w.Dump(first.Site), "CREATE TABLE `two_")
		w.Remove(remove.Request{Site: second.Site.Address, NoBackup: true})
		_, err = w.Book.Find(ctx, second.Site.Address)
		require.Error(t, err)
		e, _ := sitetest.Examined(t, w, first.Site.Address)
		assert.True(t, e.OK, "%v", e.Checks)
	})
}
