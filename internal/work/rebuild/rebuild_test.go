package rebuild_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/question"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/backup"
	"tivset/internal/work/rebuild"
	"tivset/internal/work/remove"
	"tivset/internal/work/update"
)

var ctx = context.Background()

// The ledger is emptied. What the accounts, the backups and the vault tell is on
// record again: a site as it is now, with a release newer than its backup's; one
// that was never backed up; none that is gone; and a job that was cut off.
func TestRebuilds(t *testing.T) {
	w := sitetest.Demo(t)
	first, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err, "%v", fault.Of(err))
	_, err = update.To(ctx, w.Desk, update.Request{Site: first.Site.Address, Release: "1.4.0"}) // which backs it up before
	require.NoError(t, err, "%v", fault.Of(err))
	alone, err := w.Install(sitetest.Request("willowbench", "lockside.localhost/pictures"))
	require.NoError(t, err, "%v", fault.Of(err))
	gone, err := w.Install(sitetest.Request("inkreach", "chandlery.localhost"))
	require.NoError(t, err, "%v", fault.Of(err))
	p, err := remove.Look(ctx, w.Desk, remove.Request{Site: gone.Site.Address}) // which backs it up before
	require.NoError(t, err)
	_, err = remove.Remove(ctx, w.Desk, p)
	require.NoError(t, err)
	require.NoError(t, p.Close())
	w.Trip.Dies("rename web/chandlery/half", 1)
	_, err = w.Install(sitetest.Request("inkreach", "chandlery.localhost/half"))
	require.Error(t, err)
	w.Trip.Arm(0, 0)
	cut := fault.Of(err).Job
	require.NotEmpty(t, cut)

	before, err := w.Book.Ledger.Sites(ctx)
	require.NoError(t, err)
	require.Len(t, before, 2)
	there := w.Snapshot()
	// The vault is of another time: the site's own file says what its database takes.
	require.NoError(t, w.Book.Vault.Set(map[string]secret.Text{
		site.VaultName(first.Site.Address, site.DataPassword): secret.Of("of-long-ago-1234")}))
	for _, x := range before {
		require.NoError(t, w.Book.Ledger.DropSite(ctx, x.Address))
	}
	require.NoError(t, w.Book.Ledger.Close())
	require.NoError(t, os.Remove(w.Home.Ledger()))
	w.Book.Ledger, err = ledger.Open(ctx, w.Home.Ledger())
	require.NoError(t, err)

	done, err := rebuild.Rebuild(ctx, w.Desk, "", false)
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Empty(t, done.Left)
	assert.Empty(t, done.Unseen)
	sitetest.Same(t, there, w.Snapshot())
	after, err := w.Book.Ledger.Sites(ctx)
	require.NoError(t, err)
	require.Len(t, after, 2)
	for i, x := range after {
		was := before[i]
		if was.Address == alone.Site.Address { // nobody knows any more whose the database is
			was.Database.From = question.DataExisting
		}
		assert.Equal(t, "good", x.Health, x.Address)
		assert.Equal(t, []any{was.Address, was.App, was.Release, was.Title, was.Language, was.Admin.Name, was.Database,
			was.Entries}, []any{x.Address, x.App, x.Release, x.Title, x.Language, x.Admin.Name,
			x.Database, x.Entries})
	}
	assert.Equal(t, "1.4.0", after[0].Release)
	assert.Equal(t, before[0].FoldersMade, after[0].FoldersMade)
	left, err := w.Desk.Unfinished(ctx)
	require.NoError(t, err)
	require.Len(t, left, 1)
	assert.Equal(t, cut, left[0].ID)
	_, err = w.Desk.Undo(ctx, cut)
	require.NoError(t, err)

	// The sites are like any others: backed up, removed.
	for _, x := range after {
		_, err := backup.Make(ctx, w.Desk, backup.Request{Site: x.Address})
		require.NoError(t, err, "%v", fault.Of(err))
	}
	again, err := rebuild.Rebuild(ctx, w.Desk, "", false)
	require.NoError(t, err)
	assert.Empty(t, append(again.Sites, ledger.Site{})[1:], "nothing is missing any more")
	_, err = os.Stat(filepath.Join(w.Root, alone.Site.Folder, "index.page"))
	require.NoError(t, err)
}
