package work_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/check"
	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/renew"
	"tivset/internal/work/repair"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// change is something that is done to a site, and how to have the site again as
// it was.
type change struct {
	name string
	do   func(*sitetest.World, ledger.Site) error
	back func(t *testing.T, w *sitetest.World, at, backup string)
}

func restored(t *testing.T, w *sitetest.World, at, backup string) {
	t.Helper()
	_, err := restore.Restore(ctx, w.Desk, restore.Request{Site: at, From: backup, NoBackup: true})
	require.NoError(t, err)
}

var changes = []change{
	{"update", func(w *sitetest.World, x ledger.Site) error {
		p, err := update.Look(ctx, w.Desk, update.Request{Site: x.Address})
		if err != nil {
			return err
		}
		defer p.Close()
		_, err = update.Update(ctx, w.Desk, p)
		return err
	}, restored},
	{"restore", func(w *sitetest.World, x ledger.Site) error {
		_, err := restore.Restore(ctx, w.Desk, restore.Request{Site: x.Address,
			From: filepath.Join(w.Home.Data, "later.tar.zst")})
		return err
	}, restored},
	{"new password", func(w *sitetest.World, x ledger.Site) error {
		_, err := renew.Renew(ctx, w.Desk, x.Address)
		return err
	}, restored},
	{"repair", func(w *sitetest.World, x ledger.Site) error {
		_, err := repair.Repair(ctx, w.Desk, x.Address)
		return err
	}, restored},
	{"copy", func(w *sitetest.World, x ledger.Site) error {
		return sitetest.CopyOf(w, place.Request{Site: x.Address, At: "chandlery.localhost/try"})
	}, func(t *testing.T, w *sitetest.World, _, _ string) {
		w.Remove(remove.Request{Site: "chandlery.localhost", NoBackup: true, WithAdded: true})
	}},
	{"move", func(w *sitetest.World, x ledger.Site) error {
		return sitetest.CopyOf(w, place.Request{Site: x.Address, At: "chandlery.localhost/try", Move: true})
	}, func(t *testing.T, w *sitetest.World, at, backup string) {
		w.Remove(remove.Request{Site: "chandlery.localhost", NoBackup: true, WithAdded: true})
		restored(t, w, at, backup)
	}},
	{"remove", func(w *sitetest.World, x ledger.Site) error {
		p, err := remove.Look(ctx, w.Desk, remove.Request{Site: x.Address})
		if err != nil {
			return err
		}
		defer p.Close()
		_, err = remove.Remove(ctx, w.Desk, p)
		return err
	}, restored},
}

// Each of many calls that a change makes fails once, and each time the site is as it was,
// works, and nothing is left beside it; or the change had settled, and an undo
// finishes it.
func TestChangesAreUndoneWhicheverCallFails(t *testing.T) {
	servers.Slow(t)
	stride := servers.Sweep(14)
	for _, c := range changes {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			w := sitetest.Demo(t)
			w.Hosting.Settle = 0
			x, backup := changeable(t, w)
			w.Trip.Arm(0, 0)
			require.NoError(t, c.do(w, x))
			total, stopped, changed := w.Trip.Calls(), 0, true
			for n := 1; n <= total; n += stride {
				if changed {
					c.back(t, w, x.Address, backup)
					require.NoError(t, os.RemoveAll(filepath.Join(w.Root, ".tivset")))
				}
				x, err := w.Book.Find(ctx, x.Address)
				require.NoError(t, err)
				before, data := after(w, c.name), w.Dump(x)
				w.Trip.Arm(n, n)
				err = c.do(w, x)
				failed := w.Trip.Failed
				w.Trip.Arm(0, 0)
				undone := sitetest.Undo(t, w)
				if changed = err == nil || fault.Of(err).Kind == fault.Incomplete && len(undone) == 0; changed {
					continue
				}
				stopped++
				sitetest.Same(t, before, after(w, c.name), "call %d, %s: %v", n, failed, err)
				require.Equal(t, data, w.Dump(x), "call %d, %s: %v", n, failed, err)
				now, err := w.Book.Find(ctx, x.Address)
				require.NoError(t, err)
				assert.Equal(t, x, now, "call %d, %s", n, failed)
			}
			if changed {
				c.back(t, w, x.Address, backup)
			}
			e, _ := sitetest.Examined(t, w, x.Address)
			for _, c := range e.Checks {
				assert.True(t, c.Name != check.FrontPage || c.OK, "%v", e.Checks)
			}
			t.Logf("%d of %d calls stop it", stopped, total)
			assert.Greater(t, stopped, total/stride/2)
		})
	}
}

// after is what the account holds after a change was taken back; the backup that
// an update made first stays.
func after(w *sitetest.World, change string) string {
	if change == "update" {
		return demo.ButBackups(w.Snapshot())
	}
	return w.Snapshot()
}

// changeable installs a site that can be updated and repaired, and backs it up
// twice: as it is, and with one entry more.
func changeable(t *testing.T, w *sitetest.World) (ledger.Site, string) {
	t.Helper()
	done, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	x := done.Site
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, x.Folder, "post.page"), []byte("changed"), 0o644))
	first, err := backup.Make(ctx, w.Desk, backup.Request{Site: x.Address, Into: t.TempDir()})
	require.NoError(t, err)
	w.Query(x, "DELETE FROM {tables}entries WHERE id = 1")
	later, err := backup.Make(ctx, w.Desk, backup.Request{Site: x.Address, Into: t.TempDir()})
	require.NoError(t, err)
	require.NoError(t, os.Rename(later.File, filepath.Join(w.Home.Data, "later.tar.zst")))
	restored(t, w, x.Address, first.File)
	x, err = w.Book.Find(ctx, x.Address)
	require.NoError(t, err)
	return x, first.File
}
