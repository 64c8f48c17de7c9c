package work_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/rebuild"
	"tivset/internal/work/remove"
	"tivset/internal/work/restore"
)

// signsIn sees that the vault's password is the app's.
func signsIn(t *testing.T, w *sitetest.World, at string) {
	t.Helper()
	seen := exposure(t, w, at, check.SignIn)
	assert.True(t, seen.OK, "%v", seen)
}

// The machine is lost, and nobody saved what opens its records: another one still gets at the sites and at their
// backups, with new passwords, once somebody says that he believes them.
func TestBackupsOfALostMachine(t *testing.T) {
	servers.Slow(t)
	g := chaos.NewGround(t, servers.PHPWeb)
	lost := g.World(t, "local")
	done, err := lost.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	at := done.Site.Address
	lost.Query(done.Site, "INSERT INTO {tables}entries (body) VALUES ('kept in the backup')")
	made, err := backup.Make(ctx, lost.Desk, backup.Request{Site: at})
	require.NoError(t, err)
	before := lost.Snapshot()

	w := g.World(t, "local")
	found, err := rebuild.Rebuild(ctx, w.Desk, "", false)
	require.NoError(t, err)
	assert.Empty(t, found.Sites)
	require.Len(t, found.Left, 1, "%v", found)
	sitetest.Same(t, before, w.Snapshot())
	found, err = rebuild.Rebuild(ctx, w.Desk, "", true)
	require.NoError(t, err)
	require.Empty(t, found.Left, "%v", found.Left)
	assert.Equal(t, []string{at}, found.Anew)
	signsIn(t, w, at)

	x, err := w.Book.Find(ctx, at)
	require.NoError(t, err)
	w.Query(x, "DELETE FROM {tables}entries")
	back := restore.Request{Site: at, From: made.File}
	_, err = restore.Restore(ctx, w.Desk, back)
	require.ErrorContains(t, err, "this machine's vault did not make the backup")
	back.NotOurs = true
	restored, err := restore.Restore(ctx, w.Desk, back)
	require.NoError(t, err, "%v", fault.Of(err))
	require.NotEmpty(t, restored.Warnings)
	assert.Equal(t, []string{"reveal", at}, fault.Calls(restored.Warnings[len(restored.Warnings)-1])[0])
	assert.Contains(t, w.Value(x, "SELECT GROUP_CONCAT(body) FROM {tables}entries"), "kept in the backup")
	signsIn(t, w, at)

	// Of a site that is gone the backup is all there is.
	here := filepath.Join(t.TempDir(), "backup")
	text, err := os.ReadFile(filepath.Join(w.Root, made.File))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(here, text, 0o600))
	w.Remove(remove.Request{Site: at, NoBackup: true, WithAdded: true})
	elsewhere, err := restore.Restore(ctx, w.Desk, restore.Request{Site: "lockside.localhost/again", From: here,
		NotOurs: true})
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Contains(t, w.Value(elsewhere.Site, "SELECT GROUP_CONCAT(body) FROM {tables}entries"), "kept in the backup")
	signsIn(t, w, elsewhere.Site.Address)
}

// A site whose domain has another name by now is known by its folder.
func TestRebuildsUnderAnotherName(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err, "%v", fault.Of(err))
	_, err = backup.Make(ctx, w.Desk, backup.Request{Site: done.Site.Address})
	require.NoError(t, err)
	require.NoError(t, w.Book.Ledger.DropSite(ctx, done.Site.Address))
	w.EditAccount(func(a *account.Account) {
		for i := range a.Domains {
			if a.Domains[i].Folder == "web/lockside" {
				a.Domains[i].Name = strings.Replace(a.Domains[i].Name, "lockside", "quay", 1)
				a.Domains[i].URL = strings.Replace(a.Domains[i].URL, "lockside", "quay", 1)
			}
		}
	})
	found, err := rebuild.Rebuild(ctx, w.Desk, "", false)
	require.NoError(t, err)
	require.Len(t, found.Named, 1, "%v", found)
	assert.Equal(t, done.Site.Address, found.Named[0].Was)
	require.Empty(t, found.Left)
	require.Len(t, found.Sites, 1)
	assert.Equal(t, []string{found.Named[0].Is, done.Site.Folder}, []string{found.Sites[0].Address, found.Sites[0].Folder})
}
