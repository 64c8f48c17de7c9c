package work_test

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/secret"
	"tivset/internal/testing/chaos"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
	"tivset/internal/work/restore"
)

// A site of which something is gone comes back with the call that the check names: files, database or user, or all of
// it; what is left of it is backed up first.
func TestALostSiteComesBack(t *testing.T) {
	servers.Slow(t)
	g := chaos.NewGround(t, servers.PHPWeb)
	w := g.World(t, "local")
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	x := done.Site
	w.Query(x, "INSERT INTO {tables}entries (body) VALUES ('in the backup')")
	_, err = backup.Make(ctx, w.Desk, backup.Request{Site: x.Address})
	require.NoError(t, err)
	folder := filepath.Join(w.Root, x.Folder)
	a, err := w.Home.Account("quillmere")
	require.NoError(t, err)
	clients := a.Databases[0].Clients
	drop := func(do func(database.Server) error) {
		s, err := mariadb.Connect(ctx, database.Login{Server: w.Real.Address, User: w.Real.User,
			Password: secret.Of(w.Real.Password)})
		require.NoError(t, err)
		require.NoError(t, errors.Join(do(s), s.Close()))
	}
	for _, c := range []struct {
		gone string
		lose func()
	}{
		{"files", func() { require.NoError(t, os.RemoveAll(folder)) }},
		{"files and those outside", func() {
			require.NoError(t, os.RemoveAll(folder))
			require.NoError(t, os.RemoveAll(filepath.Join(w.Root, x.DataFolder)))
		}},
		{"database", func() { drop(func(s database.Server) error { return s.DropDatabase(ctx, x.Database.Name) }) }},
		{"user", func() {
			drop(func(s database.Server) error {
				return s.DropUser(ctx, database.User{Name: x.Database.User, Clients: clients, Database: x.Database.Name})
			})
		}},
		{"all", func() {
			require.NoError(t, os.RemoveAll(folder))
			drop(func(s database.Server) error { return s.DropDatabase(ctx, x.Database.Name) })
		}},
	} {
		t.Run(c.gone, func(t *testing.T) {
			good, err := w.Book.Find(ctx, x.Address)
			require.NoError(t, err)
			good.Health = "good"
			require.NoError(t, w.Book.Ledger.KeepSite(ctx, good))
			c.lose()
			_, err = batch.One(ctx, w.Desk, &requests.Backup{Request: backup.Request{Site: x.Address}})
			require.Error(t, err, "there is nothing to back up")
			said, err := w.Book.Find(ctx, x.Address)
			require.NoError(t, err)
			assert.Equal(t, map[bool]string{true: "bad", false: "gone"}[c.gone == "database" || c.gone == "user"], said.Health,
				"the record follows what happened last")
			back, err := restore.Restore(ctx, w.Desk, restore.Request{Site: x.Address})
			require.NoError(t, err, "%v", fault.Of(err))
			require.NotNil(t, back.Backup, "what was left is kept")
			assert.Contains(t, w.Value(x, "SELECT GROUP_CONCAT(body) FROM {tables}entries"), "in the backup")
			signsIn(t, w, x.Address)
			said, err = w.Book.Find(ctx, x.Address)
			require.NoError(t, err)
			assert.NotEqual(t, "gone", said.Health)
			assert.Empty(t, said.Gone)
		})
	}
}
