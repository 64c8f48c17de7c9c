package work_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work"
	"tivset/internal/work/remove"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// diesAt runs a change in which every call fails from the n-th of a name on, so
// that it is left as by a crash, and gives the job.
func diesAt(t *testing.T, w *sitetest.World, call string, n int, do func() error) string {
	t.Helper()
	w.Desk.Patience = 0
	w.Trip.Dies(call, n)
	err := do()
	w.Trip.Arm(0, 0)
	require.Equal(t, fault.Incomplete, fault.Of(err).Kind, "%v", err)
	return fault.Of(err).Job
}

const (
	late = "INSERT INTO {tables}entries (title, body, author, published) VALUES " +
		"('Written since', 'x', 'late', '2026-11-24 08:00:00')"
	lateTitle = "SELECT COALESCE(MAX(title), 'none') FROM {tables}entries WHERE author = 'late'"
)

// A job that is cut off is undone days later. What visitors have written since is
// there still when no step had begun to change the database; when one had, it is
// put back only once somebody agreed, and what was there is in a backup.
func TestAnUndoDaysLaterLosesNothing(t *testing.T) {
	w := sitetest.Demo(t)
	w.Hosting.Settle = 0
	done, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	x := done.Site
	do := func() error {
		_, err := update.To(ctx, w.Desk, update.Request{Site: x.Address})
		return err
	}
	asked := 0
	answer := func(err error) func(context.Context, string) error {
		return func(_ context.Context, what string) error {
			asked++
			assert.Contains(t, what, "kept first")
			return err
		}
	}
	w.Desk.Agree = answer(errors.New("nobody is to be asked"))
	for at, n := range map[string]int{"before dump": 2, "after dump": 2, // the second dump is the one to put back
		"/live/config/settings.php": 1} { // it is kept, and the migration comes next
		job := diesAt(t, w, at, n, do)
		w.Query(x, late)
		_, err = w.Desk.Undo(ctx, job)
		require.NoError(t, err)
		assert.Equal(t, "Written since", w.Value(x, lateTitle), "nothing had begun to change the database")
		w.Query(x, "DELETE FROM {tables}entries WHERE author = 'late'")
	}
	assert.Zero(t, asked)

	before := demo.ButBackups(w.Snapshot())
	job := diesAt(t, w, "statement", 1, do)
	w.Query(x, late)
	for _, how := range []func() error{
		func() error { _, err := w.Desk.Undo(ctx, job); return err },
		func() error { _, err := w.Desk.Resume(ctx, job); return err },
	} {
		w.Desk.Agree = nil
		err = how()
		assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind, "%v", err)
		w.Desk.Agree = answer(errors.New("not now"))
		require.ErrorContains(t, how(), "not now")
		assert.Equal(t, "Written since", w.Value(x, lateTitle), "nobody agreed")
	}
	w.Desk.Agree = answer(nil)
	entry, err := w.Desk.Undo(ctx, job)
	require.NoError(t, err)
	assert.Equal(t, "none", w.Value(x, lateTitle))
	sitetest.Same(t, before, demo.ButBackups(w.Snapshot()))
	require.Len(t, entry.Kept, 1)
	assert.Equal(t, 3, asked)
	require.Len(t, work.Kept(entry), 1)
	assert.Equal(t, []string{"restore", x.Address, "--from", entry.Kept[0]}, fault.Calls(work.Kept(entry)[0])[0])

	restored, err := restore.Restore(ctx, w.Desk, restore.Request{Site: x.Address, From: entry.Kept[0]})
	require.NoError(t, err)
	assert.Equal(t, "Written since", w.Value(x, lateTitle))
	assert.Equal(t, "1.3.2", restored.Site.Release)
	assert.FileExists(t, w.Root+"/"+x.Folder+"/index.page", "a backup of the data alone leaves the files")
	require.NoError(t, os.Remove(entry.Kept[0]))
}

// A name that somebody made again, while what belongs there was in the store,
// stops the undo with the place where that is; once the way is free it ends.
func TestANameThatCameBack(t *testing.T) {
	for _, how := range []string{"taken back", "removed", "an update cut off"} {
		t.Run(how, func(t *testing.T) {
			w := sitetest.Demo(t)
			w.Hosting.Settle = 0
			w.Desk.Patience = 0
			root := filepath.Join(w.Root, "web/quillmere")
			note := filepath.Join(root, "old/note.txt")
			require.NoError(t, os.MkdirAll(filepath.Dir(note), 0o755))
			require.NoError(t, os.WriteFile(note, []byte("keep me"), 0o600))
			r := sitetest.Older("inkreach", "quillmere.localhost", "1.3.2")
			r.Answers["occupied"] = "set-aside"
			done, err := w.Install(r)
			require.NoError(t, err)

			name, job := filepath.Dir(note), done.Job
			switch how {
			case "an update cut off":
				name = filepath.Join(root, "admin")
				job = diesAt(t, w, "statement", 1, func() error {
					_, err := update.To(ctx, w.Desk, update.Request{Site: done.Site.Address})
					return err
				})
				require.NoError(t, os.RemoveAll(name)) // the notice's
				w.Desk.Agree = func(context.Context, string) error { return nil }
				fallthrough
			default:
				require.NoError(t, os.MkdirAll(name, 0o755))
				require.NoError(t, os.WriteFile(filepath.Join(name, "new.txt"), []byte("mine"), 0o644))
			}
			switch how {
			case "taken back":
				_, _, err = w.Desk.TakeBack(ctx, job)
			case "removed":
				p, errLook := remove.Look(ctx, w.Desk, remove.Request{Site: done.Site.Address, NoBackup: true})
				require.NoError(t, errLook)
				_, err = remove.Remove(ctx, w.Desk, p)
				job = fault.Of(err).Job
				require.NoError(t, p.Close())
			default:
				_, err = w.Desk.Undo(ctx, job)
			}
			require.Equal(t, fault.Incomplete, fault.Of(err).Kind, "%v", err)
			said := fmt.Sprint(fault.Of(err).Error(), fault.Of(err).Details)
			assert.Contains(t, said, "web/quillmere/"+filepath.Base(name))
			assert.Contains(t, said, ".tivset/aside/")

			require.NoError(t, os.Rename(name, name+"-mine"))
			_, err = w.Desk.Undo(ctx, job)
			require.NoError(t, err)
			assert.FileExists(t, filepath.Join(name+"-mine", "new.txt"))
			if how == "an update cut off" {
				assert.FileExists(t, filepath.Join(name, "sign-in.page"))
				return
			}
			text, err := os.ReadFile(note)
			require.NoError(t, err)
			assert.Equal(t, "keep me", string(text))
		})
	}
}
