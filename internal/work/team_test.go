package work_test

import (
	"context"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// twoMachines are two machines of a team, with an account that both reach, and where their
// records are.
func twoMachines(t *testing.T) (first, second *sitetest.World, at string) {
	t.Helper()
	at = sitetest.Records(t)
	first = sitetest.Demo(t)
	sitetest.OnTeam(t, first, at)
	return first, sitetest.Another(t, first, at), at
}

// A site's life with its records in a team's database, on two machines: what one installed
// the other updates, backs up, restores and takes out.
func TestALifeInATeam(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	first := sitetest.Demo(t)
	older, err := first.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	sitetest.OnTeam(t, first, at)
	second := sitetest.Another(t, first, at)
	sitetest.Examined(t, second, older.Site.Address)

	u, err := update.Look(ctx, second.Desk, update.Request{Site: older.Site.Address})
	require.NoError(t, err)
	updated, err := update.Update(ctx, second.Desk, u)
	require.NoError(t, err)
	require.NoError(t, u.Close())
	assert.Equal(t, "1.4.0", updated.Site.Release)
	x, err := first.Book.Find(ctx, older.Site.Address)
	require.NoError(t, err)
	assert.Equal(t, "1.4.0", x.Release, "the first machine knows")

	_, err = backup.Make(ctx, first.Desk, backup.Request{Site: x.Address})
	require.NoError(t, err)
	r, err := restore.Look(ctx, second.Desk, restore.Request{Site: x.Address})
	require.NoError(t, err, "the first one's backup is the second one's too")
	_, err = restore.Carry(ctx, second.Desk, r)
	require.NoError(t, err)
	require.NoError(t, r.Close())
	sitetest.Examined(t, first, x.Address)
	jobs, err := first.Desk.Jobs(ctx)
	require.NoError(t, err)
	assert.NotEmpty(t, jobs[0].Who)
	second.Remove(remove.Request{Site: x.Address, NoBackup: true, WithAdded: true})
	_, err = first.Book.Find(ctx, x.Address)
	assert.Error(t, err)
}

// A database that is started anew in the middle of a job, again and again, holds it up and
// no more.
func TestTheLedgerGoesAwayMeanwhile(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	w := sitetest.Demo(t)
	sitetest.OnTeam(t, w, at)
	over := make(chan struct{})
	var wait sync.WaitGroup
	cuts := 0
	wait.Go(func() {
		for {
			select {
			case <-over:
				return
			case <-time.After(60 * time.Millisecond):
				sitetest.CutOff(t, at)
				cuts++
			}
		}
	})
	done, err := w.Install(sitetest.Request("slateroom", "slate-school.localhost/class"))
	close(over)
	wait.Wait()
	assert.Positive(t, cuts, "it went away while the site was installed")
	require.NoError(t, err, "%v", fault.Of(err))
	sitetest.Examined(t, w, done.Site.Address)
}

// What a machine had begun that died, another one undoes; and one that wakes up late does
// nothing more.
func TestAnotherMachineUndoes(t *testing.T) {
	servers.Slow(t)
	first, second, at := twoMachines(t)
	before := first.Snapshot()
	var late sync.Once
	first.Desk.Progress = func(e job.Event) {
		if e.Title != "Put the files in place" && e.Step != 8 || e.Undo {
			return
		}
		late.Do(func() { // it stands still for a while, and the other takes the job in hand
			sitetest.CutOff(t, at)
			left, err := second.Desk.Unfinished(ctx)
			require.NoError(t, err)
			require.Len(t, left, 1)
			_, err = second.Desk.Undo(ctx, left[0].ID)
			require.NoError(t, err, "%v", fault.Of(err))
		})
	}
	_, err := first.Install(sitetest.Request("willowbench", "lockside.localhost/forum"))
	require.ErrorIs(t, err, job.ErrNotOurs, "%v", err)
	assert.Equal(t, fault.Incomplete, fault.Of(err).Kind)
	sitetest.Same(t, before, first.Snapshot())
	jobs, err := second.Desk.Jobs(ctx)
	require.NoError(t, err)
	assert.Equal(t, ledger.Undone, jobs[0].Outcome)
	done, err := second.Install(sitetest.Request("willowbench", "lockside.localhost/forum"))
	require.NoError(t, err)
	sitetest.Examined(t, first, done.Site.Address)
}

// What one machine looked at and another has changed since is not done: a site that was
// removed is not updated, of two updates at once one is made. That their clocks differ by an
// hour changes nothing.
func TestTwoMachinesAtOneSite(t *testing.T) {
	servers.Slow(t)
	first, second, _ := twoMachines(t)
	second.Now = func() time.Time { return time.Now().Add(time.Hour) }
	before := first.Snapshot()
	done, err := first.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	looked := func(w *sitetest.World) *update.Plan {
		t.Helper()
		p, err := update.Look(ctx, w.Desk, update.Request{Site: done.Site.Address})
		require.NoError(t, err)
		return p
	}
	one, two := looked(first), looked(second)
	var group sync.WaitGroup
	errs := make([]error, 2)
	group.Go(func() { _, errs[0] = update.Update(ctx, first.Desk, one) })
	group.Go(func() { _, errs[1] = update.Update(ctx, second.Desk, two) })
	group.Wait()
	made := 0
	for _, err := range errs {
		if err == nil {
			made++
		} else {
			assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind, "%v", err)
		}
	}
	assert.Equal(t, 1, made)
	require.NoError(t, one.Close())
	require.NoError(t, two.Close())
	e, _ := sitetest.Examined(t, first, done.Site.Address)
	assert.True(t, e.OK)
	x, err := second.Book.Find(ctx, done.Site.Address)
	require.NoError(t, err)
	assert.Equal(t, "1.4.0", x.Release)

	b := backup.Request{Site: done.Site.Address}
	second.Remove(remove.Request{Site: done.Site.Address, NoBackup: true, WithAdded: true})
	_, err = backup.Make(ctx, first.Desk, b)
	assert.Error(t, err, "the first machine knows that it is gone")
	assert.Equal(t, demo.ButBackups(before), demo.ButBackups(first.Snapshot()))
	left, err := first.Desk.Unfinished(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
}

// What a machine had kept of a site before it changed it, another one puts back: in the end
// of an update and of a restore that died, database and files are as they were.
func TestAnotherMachinePutsBack(t *testing.T) {
	servers.Slow(t)
	for what, change := range map[string]func(*sitetest.World, string) error{
		"update": func(w *sitetest.World, site string) error {
			p, err := update.Look(ctx, w.Desk, update.Request{Site: site})
			require.NoError(t, err)
			defer p.Close()
			_, err = update.Update(ctx, w.Desk, p)
			return err
		},
		"restore": func(w *sitetest.World, site string) error {
			p, err := restore.Look(ctx, w.Desk, restore.Request{Site: site})
			require.NoError(t, err)
			defer p.Close()
			_, err = restore.Carry(ctx, w.Desk, p)
			return err
		},
	} {
		t.Run(what, func(t *testing.T) {
			first, second, at := twoMachines(t)
			done, err := first.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
			require.NoError(t, err)
			x := done.Site
			_, err = backup.Make(ctx, first.Desk, backup.Request{Site: x.Address})
			require.NoError(t, err)
			first.Query(x, "UPDATE {tables}entries SET title = 'Another title'")
			before, held := demo.ButBackups(first.Snapshot()), first.Dump(x)
			require.Contains(t, held, "Another title")
			var late sync.Once
			first.Desk.Progress = func(e job.Event) {
				if e.Title != "Check the site" || e.Undo {
					return
				}
				late.Do(func() {
					assert.NotEqual(t, held, first.Dump(x), "it has begun to change the database")
					sitetest.CutOff(t, at)
					require.NoError(t, os.Rename(first.Home.State, first.Home.State+"-elsewhere")) // on another disk
					left, err := second.Desk.Unfinished(ctx)
					require.NoError(t, err)
					require.Len(t, left, 1)
					second.Desk.Agree = func(context.Context, string) error { return nil }
					_, err = second.Desk.Undo(ctx, left[0].ID)
					require.NoError(t, err, "%v", fault.Of(err))
				})
			}
			require.ErrorIs(t, change(first, x.Address), job.ErrNotOurs)
			assert.Equal(t, held, second.Dump(x))
			assert.Equal(t, before, demo.ButBackups(first.Snapshot()))
			sitetest.Examined(t, second, x.Address)
			jobs, err := second.Desk.Jobs(ctx)
			require.NoError(t, err)
			require.Len(t, jobs[0].Kept, 1, "what was there by then")
			p, err := restore.Look(ctx, second.Desk, restore.Request{Site: x.Address, From: jobs[0].Kept[0]})
			require.NoError(t, err, "as the remedy says")
			require.NoError(t, p.Close())
		})
	}
}

// Who has not heard that another machine goes on with a job sees it in the account before the
// next step, and does nothing more: neither the step nor an undo.
func TestTheAccountSaysWhoGoesOn(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	w := sitetest.Demo(t)
	sitetest.OnTeam(t, w, at)
	done, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	busy := filepath.Join(w.Root, ".tivset/busy")
	for what, other := range map[string]func(id string){
		"it was taken over": func(id string) {
			require.NoError(t, os.WriteFile(filepath.Join(busy, id+".2"), nil, 0o600))
		},
		"it was undone": func(string) { require.NoError(t, os.RemoveAll(busy)) },
		"it was undone, and is done again": func(string) {
			marks, err := filepath.Glob(filepath.Join(busy, "*.json"))
			require.NoError(t, err)
			require.Len(t, marks, 1)
			require.NoError(t, os.WriteFile(marks[0], []byte(`{"job": "20261126-080000-abcd"}`), 0o600))
		},
	} {
		t.Run(what, func(t *testing.T) {
			p, err := update.Look(ctx, w.Desk, update.Request{Site: done.Site.Address})
			require.NoError(t, err)
			defer p.Close()
			after := ""
			var one sync.Once
			w.Desk.Progress = func(e job.Event) {
				if e.Title != "Take over the configuration" || !e.Done {
					return
				}
				one.Do(func() {
					jobs, err := w.Desk.Jobs(ctx)
					require.NoError(t, err)
					other(jobs[0].ID)
					after = w.Snapshot() + w.Dump(done.Site)
				})
			}
			_, err = update.Update(ctx, w.Desk, p)
			require.ErrorIs(t, err, job.ErrNotOurs)
			assert.Contains(t, err.Error(), "another machine has gone on")
			assert.Equal(t, after, w.Snapshot()+w.Dump(done.Site), "nothing more was done")
			w.Desk.Progress = nil
			jobs, err := w.Desk.Jobs(ctx)
			require.NoError(t, err)
			require.NoError(t, os.RemoveAll(busy)) // of whoever took it over
			w.Desk.Agree = func(context.Context, string) error { return nil }
			_, err = w.Desk.Undo(ctx, jobs[0].ID)
			require.NoError(t, err)
			assert.NoDirExists(t, busy)
			assert.NoDirExists(t, filepath.Join(w.Root, ".tivset/kept"))
			sitetest.Examined(t, w, done.Site.Address)
		})
	}
}

// Three days later, and from another machine, an install is taken back that the owner has
// changed meanwhile: what was there before is there again, to the byte.
func TestAnotherMachineTakesBackLater(t *testing.T) {
	servers.Slow(t)
	first, second, _ := twoMachines(t)
	second.Now = func() time.Time { return time.Now().Add(72 * time.Hour) }
	folder := filepath.Join(first.Root, "web/lockside/forum")
	require.NoError(t, os.MkdirAll(folder, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "index.html"), []byte("the page that was there"), 0o644))
	before := first.Snapshot()
	r := sitetest.Request("willowbench", "lockside.localhost/forum")
	r.Answers["occupied"] = "set-aside"
	done, err := first.Install(r)
	require.NoError(t, err, "%v", fault.Of(err))
	first.Query(done.Site, "UPDATE {tables}meta SET value = 'Another title' WHERE name = 'title'")
	require.NoError(t, os.Rename(first.Home.State, first.Home.State+"-elsewhere")) // on another disk
	_, err = first.Book.Ledger.Jobs(ctx, ledger.JobFilter{})
	require.NoError(t, err)
	_, left, err := second.Desk.TakeBack(ctx, done.Job)
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Empty(t, left)
	sitetest.Same(t, before, first.Snapshot())
	_, err = first.Book.Find(ctx, done.Site.Address)
	assert.Error(t, err)
}

// A database that has no room any more in the middle of a job: the job stands still and says
// so, nothing is guessed, and once there is room it is undone from either machine.
func TestTheLedgerIsFullMeanwhile(t *testing.T) {
	servers.Slow(t)
	first, second, at := twoMachines(t)
	before := first.Snapshot()
	full := func(is bool) {
		c, err := pgx.Connect(ctx, at)
		require.NoError(t, err)
		defer c.Close(ctx)
		statement := `SET search_path TO tivset; CREATE OR REPLACE FUNCTION full_now() RETURNS trigger LANGUAGE plpgsql AS
			$$ BEGIN RAISE EXCEPTION 'could not extend file' USING ERRCODE = 'disk_full'; END $$;
			CREATE TRIGGER full_now BEFORE INSERT OR UPDATE ON journals EXECUTE FUNCTION full_now();
			CREATE TRIGGER full_now BEFORE INSERT OR UPDATE ON jobs EXECUTE FUNCTION full_now()`
		if !is {
			statement = "DROP FUNCTION tivset.full_now CASCADE"
		}
		_, err = c.Exec(ctx, statement)
		require.NoError(t, err)
	}
	var once sync.Once
	first.Desk.Progress = func(e job.Event) {
		if e.Step == 8 && !e.Undo {
			once.Do(func() { full(true) })
		}
	}
	_, err := first.Install(sitetest.Request("willowbench", "lockside.localhost/forum"))
	require.ErrorIs(t, err, job.ErrNotOurs)
	f := fault.Of(err)
	assert.Equal(t, fault.Incomplete, f.Kind)
	assert.Contains(t, f.Error(), "the ledger takes nothing")
	assert.Contains(t, f.Error(), "has no room")
	full(false)
	left, err := second.Desk.Unfinished(ctx)
	require.NoError(t, err)
	require.Len(t, left, 1)
	_, err = second.Desk.Undo(ctx, left[0].ID)
	require.NoError(t, err, "%v", fault.Of(err))
	sitetest.Same(t, before, first.Snapshot())
}

// A copy in a team that fails after the original was let go is undone, by the machine that made it or by another: the
// mark that was taken away on purpose is none that somebody else took.
func TestACopyInATeamIsUndone(t *testing.T) {
	servers.Slow(t)
	first, second, _ := twoMachines(t)
	done, err := first.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err, "%v", fault.Of(err))
	before := first.Snapshot()
	first.Demo.Standin.Web.Break("/try/", 500)
	err = sitetest.CopyOf(first, place.Request{Site: done.Site.Address, At: "chandlery.localhost/try"})
	require.ErrorContains(t, err, "check of the")
	assert.Equal(t, fault.Failed, fault.Of(err).Kind, "%v", fault.Of(err))
	left, err := first.Desk.Unfinished(ctx)
	require.NoError(t, err)
	assert.Empty(t, left)
	sitetest.Same(t, before, first.Snapshot())

	first.Trip.Dies("rename .tivset/stage", 1)
	err = sitetest.CopyOf(first, place.Request{Site: done.Site.Address, At: "chandlery.localhost/try"})
	require.Error(t, err)
	first.Trip.Arm(0, 0)
	require.NoError(t, first.Book.Ledger.Close()) // it is gone
	assert.NotEmpty(t, sitetest.Undo(t, second))
	sitetest.Same(t, before, second.Snapshot())
}
