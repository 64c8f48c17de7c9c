package site_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/site"
	"tivset/internal/testing/sitetest"
)

func older(app, at, release string) site.Request {
	r := sitetest.Request(app, at)
	r.Release = release
	return r
}

// The whole life of a site ends with the account as it began, wherever the
// account is.
func TestWholeLife(t *testing.T) {
	onBoth(t, wholeLife)
	t.Run("over SFTP", func(t *testing.T) {
		w := sitetest.Demo(t)
		overSFTP(t, w)
		_, err := w.Reach.Hosts.Trust(w.Demo.Standin.SSH.Address(), w.Demo.Standin.SSH.Fingerprint())
		require.NoError(t, err)
		wholeLife(t, w)
	})
	t.Run("over FTP", func(t *testing.T) {
		w := sitetest.Demo(t)
		overFTP(t, w, account.FTP)
		wholeLife(t, w)
	})
}

func wholeLife(t *testing.T, w *sitetest.World) {
	t.Helper()
	begin := w.Snapshot()
	here := t.TempDir()
	done, err := w.Install(older("inkwater", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	at := done.Site.Address
	folder := filepath.Join(w.Root, done.Site.Folder)

	// It changes: an entry that names its address, and a file of the owner's.
	w.Query(done.Site, "INSERT INTO {tables}posts (title, body, author, published) VALUES ('A link', 'See "+done.Site.URL+"post.page?id=1 and "+strings.TrimSuffix(done.Site.URL, "/")+"2', 'me', '2026-11-01 10:00:00')")
	require.NoError(t, os.WriteFile(filepath.Join(folder, "admin", "mine.txt"), []byte("mine"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "notes.txt"), []byte("notes"), 0o600))
	changed := w.Snapshot()

	made, err := w.Service.Backup(ctx, site.BackupRequest{Site: at, Into: here})
	require.NoError(t, err)
	assert.FileExists(t, made.File)
	assert.NotZero(t, made.Data)
	same(t, changed, w.Snapshot(), "a backup changes nothing")

	// It is updated, and what was there before comes back from the backup.
	up, err := w.Service.PlanUpdate(ctx, site.UpdateRequest{Site: at, NoBackup: true})
	require.NoError(t, err)
	assert.Equal(t, []string{"1.3.2", "1.4.0", "features"}, []string{up.From, up.To, up.Level})
	assert.Equal(t, []string{"admin/mine.txt"}, up.Carried)
	assert.Empty(t, up.Lost)
	updated, err := w.Service.Update(ctx, up)
	require.NoError(t, err)
	require.NoError(t, up.Close())
	assert.Equal(t, "1.4.0", updated.Site.Release)
	assert.FileExists(t, filepath.Join(folder, "admin", "mine.txt"))
	assert.FileExists(t, filepath.Join(folder, "notes.txt"))
	assert.NoDirExists(t, filepath.Join(folder, "schema"))
	assert.NoDirExists(t, filepath.Join(w.Root, ".tivset"))
	e, fine := examined(t, w, at)
	assert.True(t, e.OK, "%v %v", e.Checks, fine)

	back, err := w.Service.Restore(ctx, site.RestoreRequest{Site: at, From: made.File, NoBackup: true})
	require.NoError(t, err)
	assert.Equal(t, "1.3.2", back.Site.Release)
	same(t, changed, w.Snapshot(), "a restore brings back what was")

	// A copy at another address, which speaks of itself.
	copied := w.Copy(site.CopyRequest{Site: at, At: "chandlery.localhost/try"})
	assert.Equal(t, at, copied.Site.CopyOf)
	assert.Equal(t, "See "+copied.Site.URL+"post.page?id=1 and "+strings.TrimSuffix(done.Site.URL, "/")+"2", w.Value(copied.Site, "SELECT body FROM {tables}posts WHERE title = 'A link'"))
	assert.Equal(t, "See "+done.Site.URL+"post.page?id=1 and "+strings.TrimSuffix(done.Site.URL, "/")+"2", w.Value(done.Site, "SELECT body FROM {tables}posts WHERE title = 'A link'"))
	assert.Contains(t, w.Fetch(copied.Site.URL), "A link")
	w.Remove(site.RemoveRequest{Site: copied.Site.Address, NoBackup: true, WithAdded: true})
	same(t, changed, w.Snapshot(), "the copy went without a trace")

	// It moves, and moves back.
	moved := w.Copy(site.CopyRequest{Site: at, At: "helm-school.localhost/news", Move: true})
	_, err = w.Service.Site(ctx, at)
	assert.Error(t, err)
	assert.Contains(t, w.Fetch(moved.Site.URL), "A link")
	assert.FileExists(t, filepath.Join(folder, "notes.txt"), "what is not the site's stays")
	require.NoError(t, os.Remove(filepath.Join(folder, "notes.txt")))
	require.NoError(t, os.Remove(filepath.Join(folder, "admin", "mine.txt")))
	require.NoError(t, os.RemoveAll(folder))

	// No journal, and not the ledger, holds a password.
	creds, err := w.Service.Reveal(ctx, moved.Site.Address)
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
	last, err := w.Service.Backup(ctx, site.BackupRequest{Site: moved.Site.Address, Into: here})
	require.NoError(t, err)
	w.Remove(site.RemoveRequest{Site: moved.Site.Address, NoBackup: true, WithAdded: true})
	same(t, begin, w.Snapshot(), "nothing is left")
	again, err := w.Service.Restore(ctx, site.RestoreRequest{Site: "lockside.localhost/journal", From: last.File})
	require.NoError(t, err)
	assert.Contains(t, w.Fetch(again.Site.URL), "A link")
	w.Remove(site.RemoveRequest{Site: again.Site.Address, NoBackup: true, WithAdded: true})
	same(t, begin, w.Snapshot(), "nothing is left")
}

// A site moves to another account, and a copy of it comes back.
func TestMovesToAnotherAccount(t *testing.T) {
	w := sitetest.Demo(t)
	w.EditAccount(func(a *account.Account) {
		other := *a
		other.Name, other.Reach = "other", "local:"+filepath.Join(w.Root, "web")
		other.Domains = slices.Clone(a.Domains[3:])
		other.Domains[0].Folder = "helm-school"
		a.Domains = a.Domains[:3]
		other.Databases = slices.Clone(a.Databases)
		admin := *a.Databases[0].Admin
		admin.Password = "plain:" + w.Demo.Password
		other.Databases[0].Admin = &admin
		text, err := other.Format()
		require.NoError(t, err)
		_, err = w.Service.AddAccount("other", text, false, os.Getenv)
		require.NoError(t, err)
	})
	begin := w.Snapshot()
	done, err := w.Install(sitetest.Request("helmroom", "lockside.localhost/school"))
	require.NoError(t, err)
	moved := w.Copy(site.CopyRequest{Site: done.Site.Address, At: "helm-school.localhost", Account: "other", Move: true})
	assert.Equal(t, "other", moved.Site.Account)
	e, _ := examined(t, w, moved.Site.Address)
	assert.True(t, e.OK, "%v", e.Checks)
	copied := w.Copy(site.CopyRequest{Site: moved.Site.Address, At: "chandlery.localhost", Account: "quillmere"})
	e, _ = examined(t, w, copied.Site.Address)
	assert.True(t, e.OK, "%v", e.Checks)
	for _, x := range []string{moved.Site.Address, copied.Site.Address} {
		w.Remove(site.RemoveRequest{Site: x, NoBackup: true, WithAdded: true})
	}
	same(t, begin, w.Snapshot(), "nothing is left")
}

// A folder above the data of two sites goes with the last of them.
func TestFoldersOfSeveral(t *testing.T) {
	w := sitetest.Demo(t)
	begin := w.Snapshot()
	first, err := w.Install(sitetest.Request("helmroom", "lockside.localhost/school"))
	require.NoError(t, err)
	second, err := w.Install(sitetest.Request("helmroom", "helm-school.localhost"))
	require.NoError(t, err)
	moved := w.Copy(site.CopyRequest{Site: first.Site.Address, At: "chandlery.localhost", Move: true})
	for _, x := range []string{second.Site.Address, moved.Site.Address} {
		w.Remove(site.RemoveRequest{Site: x, NoBackup: true})
	}
	same(t, begin, w.Snapshot(), "nothing is left")
}

// Extensions are brought to a newer release only where the care says so.
func TestExtensionsByTheirOwnPolicy(t *testing.T) {
	for policy, stays := range map[string]bool{"off": true, "on": false} {
		w := sitetest.Demo(t)
		r := older("towline", "lockside.localhost/help", "1.9.5")
		r.Answers["care.extensions"] = policy
		done, err := w.Install(r)
		require.NoError(t, err)
		file := filepath.Join(w.Root, done.Site.Folder, "extensions/calendar/about.txt")
		require.NoError(t, os.WriteFile(file, []byte("an older one"), 0o644))
		up, err := w.Service.PlanUpdate(ctx, site.UpdateRequest{Site: done.Site.Address, Release: "2.0.1"})
		require.NoError(t, err)
		_, err = w.Service.Update(ctx, up)
		require.NoError(t, err)
		require.NoError(t, up.Close())
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, stays, string(text) == "an older one", policy)
	}
}

// A migration that fails is put back, with the site as it was.
func TestUpdateIsPutBack(t *testing.T) {
	onBoth(t, func(t *testing.T, w *sitetest.World) {
		done, err := w.Install(older("towline", "lockside.localhost/help", "2.0.1"))
		require.NoError(t, err)
		before := w.Snapshot()
		up, err := w.Service.PlanUpdate(ctx, site.UpdateRequest{Site: done.Site.Address, NoBackup: true})
		require.NoError(t, err)
		defer up.Close()
		_, err = w.Service.Update(ctx, up)
		f := fault.Of(err)
		require.Equal(t, fault.Failed, f.Kind, "%v", err)
		assert.Contains(t, strings.Join(f.Details, " "), "release 2.0.1")
		same(t, before, w.Snapshot())
		e, _ := examined(t, w, done.Site.Address)
		assert.True(t, e.OK, "%v", e.Checks)
		assert.Equal(t, "2.0.1", w.Value(done.Site, "SELECT value FROM {tables}log WHERE name = 'release'"))
	})
}
