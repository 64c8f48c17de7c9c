package rehearse_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/records/job"
	"tivset/internal/site"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/rehearse"
	"tivset/internal/work/update"
)

// addresses are those of all recorded sites.
func addresses(t *testing.T, w *sitetest.World) []string {
	t.Helper()
	all, err := w.Book.Ledger.Addresses(ctx)
	require.NoError(t, err)
	return all
}

// A release that is fine, and one that is broken: the site is not touched by either, and
// of the copies nothing is left.
func TestRehearses(t *testing.T) {
	w := sitetest.Demo(t)
	for _, c := range []struct {
		app, release, at string
		ok               bool
	}{{"inkreach", "1.3.2", "lockside.localhost", true}, {"towline", "2.0.1", "lockside.localhost/help", false},
		{"lampshelf", "1.7.0", "chandlery.localhost/pictures", true}} {
		t.Run(c.app, func(t *testing.T) {
			done, err := w.Install(sitetest.Older(c.app, c.at, c.release))
			require.NoError(t, err)
			before, sites := w.Snapshot(), addresses(t, w)
			came, err := rehearse.Rehearse(ctx, w.Desk, update.Request{Site: done.Site.Address})
			require.NoError(t, err)
			assert.Equal(t, c.ok, came.OK, came.Problems)
			assert.True(t, came.Tried)
			assert.Equal(t, c.ok, len(came.Pages) > 0)
			assert.Equal(t, c.release, came.From)
			sitetest.Same(t, before, w.Snapshot())
			assert.Equal(t, sites, addresses(t, w))
			sitetest.Examined(t, w, done.Site.Address)
		})
	}
}

// While a rehearsal is made, its copy sets no timers and is at an address that cannot be
// guessed; an interrupt takes it away.
func TestTheCopyIsQuiet(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Older("slateroom", "slate-school.localhost", "5.0.3"))
	require.NoError(t, err)
	before := w.Snapshot()
	within, stop := context.WithCancel(ctx)
	var seen []string
	w.Desk.Progress = func(e job.Event) {
		for _, address := range addresses(t, w) {
			if site.IsRehearsal(address) {
				seen = append(seen, address)
				stop()
			}
		}
	}
	_, err = rehearse.Rehearse(within, w.Desk, update.Request{Site: done.Site.Address})
	require.Error(t, err)
	require.NotEmpty(t, seen)
	assert.Regexp(t, `^slate-school\.localhost:\d+/rehearsal-[a-z0-9]{16}$`, seen[0])
	sitetest.Same(t, before, w.Snapshot())
	assert.Len(t, addresses(t, w), 1)
}

// Where there can be no copy, that is said, and nothing was touched.
func TestNoRehearsal(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	w.Trip.FailOn("connect")
	before := w.Snapshot()
	_, err = rehearse.Rehearse(ctx, w.Desk, update.Request{Site: "journal"})
	require.ErrorContains(t, err, "could not be rehearsed")
	sitetest.Same(t, before, w.Snapshot())
	w.Trip.FailOn()

	_, err = rehearse.Rehearse(ctx, w.Desk, update.Request{Site: "journal", Release: "9.9.9"})
	require.ErrorContains(t, err, "no release 9.9.9")
	sitetest.Same(t, before, w.Snapshot())

	w.EditAccount(func(a *account.Account) { a.Databases[0].Admin, a.Databases[0].Make = nil, account.ByHand })
	_, err = rehearse.Rehearse(ctx, w.Desk, update.Request{Site: done.Site.Address})
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
	assert.ErrorContains(t, err, "made by hand")
}

// A copy that a killed program left is taken away by a later round, one that may be under
// way is not.
func TestSweeps(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/rehearsal-abcdefgh12345678"))
	require.NoError(t, err)
	before := w.Snapshot()
	require.NoError(t, rehearse.Sweep(ctx, w.Desk, ""))
	sitetest.Same(t, before, w.Snapshot(), "it is no copy")
	x, err := w.Book.Find(ctx, "rehearsal-abcdefgh12345678")
	require.NoError(t, err)
	x.CopyOf = "lockside.localhost/journal"
	require.NoError(t, w.Book.Ledger.PutSite(ctx, x))
	require.NoError(t, rehearse.Sweep(ctx, w.Desk, ""))
	assert.Len(t, addresses(t, w), 1, "it may be under way")
	real := time.Now
	w.Desk.Now = func() time.Time { return real().Add(3 * time.Hour) }
	require.NoError(t, rehearse.Sweep(ctx, w.Desk, "another"))
	assert.Len(t, addresses(t, w), 1)
	require.NoError(t, rehearse.Sweep(ctx, w.Desk, "quillmere"))
	assert.Empty(t, addresses(t, w))
}

// What visitors write during a rehearsal stays.
func TestVisitorsMeanwhile(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Older("lampshelf", "chandlery.localhost/pictures", "1.7.0"))
	require.NoError(t, err)
	mine := filepath.Join(w.Root, done.Site.Folder, "uploads", "late.txt")
	w.Desk.Progress = func(job.Event) {
		_ = os.MkdirAll(filepath.Dir(mine), 0o755)
		_ = os.WriteFile(mine, []byte("late"), 0o644)
	}
	came, err := rehearse.Rehearse(ctx, w.Desk, update.Request{Site: done.Site.Address})
	require.NoError(t, err)
	assert.True(t, came.OK, strings.Join(came.Problems, "; "))
	assert.FileExists(t, mine)
}

// Without space for a copy there is no rehearsal: that is said, and nothing is left of it.
func TestNoSpaceForACopy(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	before := w.Snapshot()
	w.Trip.Full = true
	_, err = rehearse.Rehearse(ctx, w.Desk, update.Request{Site: "journal"})
	w.Trip.Full = false
	require.ErrorContains(t, err, "could not be rehearsed")
	sitetest.Same(t, before, w.Snapshot())
	assert.Len(t, addresses(t, w), 1)
}

// What stands against the update itself is found before a copy is made.
func TestNothingToRehearse(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	w.Desk.Progress = func(e job.Event) { t.Errorf("%s", e.Title) }
	_, err = rehearse.Rehearse(ctx, w.Desk, update.Request{Site: "journal"})
	require.ErrorIs(t, err, update.ErrCurrent)
	_, err = rehearse.Rehearse(ctx, w.Desk, update.Request{Site: "journal", Release: "9.9.9"})
	require.ErrorContains(t, err, "no release 9.9.9")
}
