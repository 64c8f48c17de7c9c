package work_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// The whole life of a site ends with the account as it began, wherever the
// account is.
func TestWholeLife(t *testing.T) {
	servers.Slow(t)
	sitetest.OnBoth(t, wholeLife)
	t.Run("over SFTP", func(t *testing.T) {
		w := sitetest.Demo(t)
		sitetest.OverSFTP(t, w)
		_, err := w.Reach.Hosts.Trust(w.Demo.Standin.SSH.Address(), w.Demo.Standin.SSH.Fingerprint())
		require.NoError(t, err)
		wholeLife(t, w)
	})
	t.Run("over FTP", func(t *testing.T) {
		w := sitetest.Demo(t)
		sitetest.OverFTP(t, w, account.FTP)
		wholeLife(t, w)
	})
}

func wholeLife(t *testing.T, w *sitetest.World) {
	t.Helper()
	begin := w.Snapshot()
	here := t.TempDir()
	done, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	at := done.Site.Address
	folder := filepath.Join(w.Root, done.Site.Folder)

	// It changes: an entry that names its address, and a file of the owner's.
	w.Query(done.Site,
		"INSERT INTO {tables}entries (title, body, author, published) VALUES ('A link', 'See "+done.Site.URL+
			"post.page?id=1 and "+strings.TrimSuffix(done.Site.URL, "/")+"2', 'me', '2026-11-01 10:00:00')")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "admin", "mine.txt"), []byte("mine"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "notes.txt"), []byte("notes"), 0o600))
	changed := w.Snapshot()

	made, err := backup.Make(ctx, w.Desk, backup.Request{Site: at, Into: here})
	require.NoError(t, err)
	assert.FileExists(t, made.File)
	assert.NotZero(t, made.Data)
	sitetest.Same(t, changed, w.Snapshot(), "a backup changes nothing")

	// It is updated, and what was there before comes back from the backup.
	up, err := update.Look(ctx, w.Desk, update.Request{Site: at, NoBackup: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"1.3.2", "1.4.0", "features"}, []string{up.From, up.To, up.Level})
	assert.Equal(t, []string{"admin/mine.txt"}, up.Carried)
	assert.Empty(t, up.Lost)
	updated, err := update.Update(ctx, w.Desk, up)
	require.NoError(t, err)
	require.NoError(t, up.Close())
	assert.Equal(t, "1.4.0", updated.Site.Release)
	assert.FileExists(t, filepath.Join(folder, "admin", "mine.txt"))
	assert.FileExists(t, filepath.Join(folder, "notes.txt"))
	assert.NoDirExists(t, filepath.Join(folder, "schema"))
	assert.NoDirExists(t, filepath.Join(w.Root, ".tivset"))
	e, fine := sitetest.Examined(t, w, at)
	assert.True(t, e.OK, "%v %v", e.Checks, fine)

	back, err := restore.Restore(ctx, w.Desk, restore.Request{Site: at, From: made.File, NoBackup: true})
	require.NoError(t, err)
	assert.Equal(t, "1.3.2", back.Site.Release)
	sitetest.Same(t, changed, w.Snapshot(), "a restore brings back what was")

	// A copy at another address, which speaks of itself.
	copied := w.Copy(place.Request{Site: at, At: "chandlery.localhost/try"})
	assert.Equal(t, at, copied.Site.CopyOf)
	assert.Equal(t, "See "+copied.Site.URL+"post.page?id=1 and "+strings.TrimSuffix(done.Site.URL, "/")+"2",
		w.Value(copied.Site, "SELECT body FROM {tables}entries WHERE title = 'A link'"))
	assert.Equal(t, "See "+done.Site.URL+"post.page?id=1 and "+strings.TrimSuffix(done.Site.URL, "/")+"2",
		w.Value(done.Site, "SELECT body FROM {tables}entries WHERE title = 'A link'"))
	assert.Contains(t, w.Fetch(copied.Site.URL), "A link")
	w.Remove(remove.Request{Site: copied.Site.Address, NoBackup: true, WithAdded: true})
	sitetest.Same(t, changed, w.Snapshot(), "the copy went without a trace")

	// It moves, and moves back.
	moved := w.Copy(place.Request{Site: at, At: "slate-school.localhost/news", Move: true})
	_, err = w.Book.Find(ctx, at)
	assert.Error(t, err)
	assert.Contains(t, w.Fetch(moved.Site.URL), "A link")
	assert.FileExists(t, filepath.Join(folder, "notes.txt"), "what is not the site's stays")
	require.NoError(t, os.Remove(filepath.Join(folder, "notes.txt")))
	assert.NoFileExists(t, filepath.Join(folder, "admin", "mine.txt"), "what was added among the app's files came along")
	assert.FileExists(t, filepath.Join(w.Root, moved.Site.Folder, "admin", "mine.txt"))
	require.NoError(t, os.RemoveAll(folder))

	// No journal, and not the ledger, holds a password.
	creds, err := w.Book.Reveal(ctx, moved.Site.Address)
	require.NoError(t, err)
	for _, folder := range []string{w.Home.Journals(), filepath.Dir(w.Home.Ledger())} {
		kept, err := filepath.Glob(filepath.Join(folder, "*"))
		require.NoError(t, err)
		for _, name := range kept {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			assert.NotContains(t, string(text), creds.Password.Reveal(), name)
			assert.NotContains(t, string(text), creds.Data.Reveal(), name)
		}
	}

	// It is removed, and brought back to an empty place.
	last, err := backup.Make(ctx, w.Desk, backup.Request{Site: moved.Site.Address, Into: here})
	require.NoError(t, err)
	w.Remove(remove.Request{Site: moved.Site.Address, NoBackup: true, WithAdded: true})
	sitetest.Same(t, begin, w.Snapshot(), "nothing is left")
	again, err := restore.Restore(ctx, w.Desk, restore.Request{Site: "lockside.localhost/journal", From: last.File})
	require.NoError(t, err)
	assert.Contains(t, w.Fetch(again.Site.URL), "A link")
	w.Remove(remove.Request{Site: again.Site.Address, NoBackup: true, WithAdded: true})
	sitetest.Same(t, begin, w.Snapshot(), "nothing is left")
}
