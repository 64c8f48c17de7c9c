package work_test

import (
	"path"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
)

// The last thing that a job does is to note that it ended. When that cannot be, an installed site is still
// an installed site.
func TestTheEndOfAnInstallCannotBeNoted(t *testing.T) {
	for _, fails := range []string{"journal, end", "ledger, before put job done", "ledger, after put job done"} {
		t.Run(fails, func(t *testing.T) {
			w := sitetest.Demo(t)
			w.Trip.FailOn(fails)
			_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			w.Trip.FailOn()
			require.ErrorIs(t, err, sitetest.ErrTrip)
			f := fault.Of(err)
			assert.Equal(t, fault.Incomplete, f.Kind, "not all was undone: the site is there")
			assert.Contains(t, f.What, "the site is installed")
			assert.Contains(t, f.Remedy, fault.Call("resume", f.Job))
			_, fine := sitetest.Examined(t, w, "lockside.localhost/journal")
			assert.True(t, fine[check.FrontPage])
			r, err := w.Desk.Resume(ctx, f.Job)
			require.NoError(t, err, "the remedy is one")
			assert.Equal(t, "journal", path.Base(r.Site.Address))
			assert.Equal(t, ledger.Done, outcomeOf(t, w, f.Job).Outcome)
		})
	}
}

// A failed job whose end cannot be noted still says why it failed, and what to do about that.
func TestTheEndOfAFailureCannotBeNoted(t *testing.T) {
	for _, fails := range []string{"journal, end", "ledger, before put job undone", "ledger, after put job undone"} {
		t.Run(fails, func(t *testing.T) {
			w := sitetest.Demo(t)
			before := w.Snapshot()
			w.Trip.FailOn("web POST", fails)
			_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			w.Trip.FailOn()
			f := fault.Of(err)
			require.Equal(t, fault.Failed, f.Kind, "everything was undone: %v", err)
			assert.Contains(t, f.What, "check of the sign-in", "why it failed is not lost")
			assert.NotEmpty(t, f.Remedy)
			require.NotEmpty(t, f.Details)
			assert.Contains(t, f.Details[len(f.Details)-1], fault.Call("undo", f.Job))
			sitetest.Same(t, before, w.Snapshot())
			_, err = w.Desk.Undo(ctx, f.Job)
			require.NoError(t, err, "the remedy is one")
			assert.Equal(t, ledger.Undone, outcomeOf(t, w, f.Job).Outcome)
			sitetest.Same(t, before, w.Snapshot())
		})
	}
}

// Neither does a job that could not be undone lose what to do, and its code.
func TestTheEndOfWhatIsLeftCannotBeNoted(t *testing.T) {
	w := sitetest.Demo(t)
	w.Desk.Patience = 0
	before := w.Snapshot()
	w.Trip.FailOn("web POST", "before drop database", "ledger, before put job incomplete")
	_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	w.Trip.FailOn()
	f := fault.Of(err)
	require.Equal(t, fault.Incomplete, f.Kind, "%v", err)
	assert.Contains(t, f.Remedy, fault.Call("undo", f.Job))
	_, err = w.Desk.Undo(ctx, f.Job)
	require.NoError(t, err)
	sitetest.Same(t, before, w.Snapshot())
}

// An undo whose end cannot be noted says that it was done, and can be noted later.
func TestTheEndOfAnUndoCannotBeNoted(t *testing.T) {
	for _, fails := range []string{"journal, end", "ledger, before put job undone"} {
		t.Run(fails, func(t *testing.T) {
			w := sitetest.Demo(t)
			w.Desk.Patience = 0
			before := w.Snapshot()
			w.Trip.FailOn("web POST", "before drop database")
			_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			id := fault.Of(err).Job
			require.NotEmpty(t, id)
			w.Trip.FailOn(fails)
			_, err = w.Desk.Undo(ctx, id)
			w.Trip.FailOn()
			f := fault.Of(err)
			require.Equal(t, fault.Incomplete, f.Kind, "%v", err)
			assert.Contains(t, f.What, "the job was undone")
			assert.Contains(t, f.Remedy, fault.Call("undo", id))
			sitetest.Same(t, before, w.Snapshot())
			_, err = w.Desk.Undo(ctx, id)
			require.NoError(t, err, "the remedy is one")
			assert.Equal(t, ledger.Undone, outcomeOf(t, w, id).Outcome)
		})
	}
}

// Nothing is begun for a job that cannot be recorded, and none is left over.
func TestAJobThatCannotBeRecordedIsNotBegun(t *testing.T) {
	for _, fails := range []string{"ledger, before put job running", "ledger, after put job running", "journal, new",
		"journal, append"} {
		t.Run(fails, func(t *testing.T) {
			w := sitetest.Demo(t)
			before := w.Snapshot()
			w.Trip.FailOn(fails)
			_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			w.Trip.FailOn()
			require.ErrorIs(t, err, sitetest.ErrTrip)
			assert.Equal(t, fault.Failed, fault.Of(err).Kind)
			sitetest.Same(t, before, w.Snapshot())
			sitetest.Undo(t, w)
			_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			require.NoError(t, err)
		})
	}
}

func outcomeOf(t *testing.T, w *sitetest.World, id string) ledger.Job {
	t.Helper()
	all, err := w.Desk.Jobs(ctx)
	require.NoError(t, err)
	for _, j := range all {
		if j.ID == id {
			return j
		}
	}
	require.Fail(t, "no such job", id)
	return ledger.Job{}
}
