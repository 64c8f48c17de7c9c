// Package ledgertest is the contract of ledgers: every one of them passes it.
package ledgertest

import (
	"context"
	"fmt"
	"io/fs"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer/care"
	"tivset/internal/records/ledger"
)

// Run runs the suite. Open opens one and the same empty ledger each time it is called.
func Run(t *testing.T, open func(t *testing.T) ledger.Ledger) {
	t.Run("sites", func(t *testing.T) { sites(t, open(t), open(t)) })
	t.Run("jobs", func(t *testing.T) { jobs(t, open(t)) })
	t.Run("jobs by filter", func(t *testing.T) { jobsByFilter(t, open(t)) })
	t.Run("redirects", func(t *testing.T) { redirects(t, open(t)) })
	t.Run("measures", func(t *testing.T) { measures(t, open(t)) })
	t.Run("rounds", func(t *testing.T) { rounds(t, open(t)) })
	t.Run("told", func(t *testing.T) { told(t, open(t), open(t)) })
	t.Run("entrusted", func(t *testing.T) { entrusted(t, open(t)) })
	t.Run("several programs", func(t *testing.T) { several(t, open) })
}

var ctx = context.Background()

func sites(t *testing.T, l, another ledger.Ledger) {
	empty, err := l.Sites(ctx)
	require.NoError(t, err)
	assert.Equal(t, []ledger.Site{}, empty, "an empty array in JSON, not null")
	now := time.Date(2026, 11, 23, 8, 0, 0, 5, time.UTC)
	site := ledger.Site{Address: "b.localhost/forum", Title: `it's "x" \ é 日`, InstalledAt: now, Entries: []string{"a"},
		Database: &ledger.Database{Name: "d"}}
	require.NoError(t, l.PutSite(ctx, site))
	require.NoError(t, l.PutSite(ctx, ledger.Site{Address: "a.localhost"}))
	require.NoError(t, l.PutSite(ctx, ledger.Site{Address: "b.localhost/Z"}))
	site.Title = "new"
	require.NoError(t, l.PutSite(ctx, site))
	got, err := another.Site(ctx, site.Address)
	require.NoError(t, err)
	assert.Equal(t, site, got)
	addresses, err := l.Addresses(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"a.localhost", "b.localhost/Z", "b.localhost/forum"}, addresses, "byte by byte")
	for _, address := range []string{"a.localhost", "a.localhost", "b.localhost/Z", site.Address} {
		require.NoError(t, l.DropSite(ctx, address))
	}
	_, err = l.Site(ctx, "a.localhost")
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

func jobs(t *testing.T, l ledger.Ledger) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 5, time.UTC)
	for i, id := range []string{"1", "3", "2"} {
		require.NoError(t, l.PutJob(ctx, ledger.Job{ID: id, Who: "steward", Started: now.Add(time.Duration(i) *
			time.Millisecond)}))
	}
	require.NoError(t, l.PutJob(ctx, ledger.Job{ID: "3", Outcome: ledger.Undone, Started: now.Add(time.Millisecond)}))
	all, err := l.Jobs(ctx, ledger.JobFilter{})
	require.NoError(t, err)
	require.Len(t, all, 3)
	assert.Equal(t, []string{"2", "3", "1"}, []string{all[0].ID, all[1].ID, all[2].ID}, "newest first")
	assert.Equal(t, []any{"steward", ledger.Undone}, []any{all[0].Who, all[1].Outcome})
}

// jobsByFilter proves which jobs are listed, and which are forgotten.
func jobsByFilter(t *testing.T, l ledger.Ledger) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	longAgo := now.AddDate(0, 0, -500)
	there, err := l.Jobs(ctx, ledger.JobFilter{})
	require.NoError(t, err)
	for _, j := range there { // what other tests left
		j.Ended = &longAgo
		require.NoError(t, l.PutJob(ctx, j))
	}
	_, err = l.DropJobs(ctx, now)
	require.NoError(t, err)
	require.NoError(t, l.PutSite(ctx, ledger.Site{Address: "filter.localhost", Job: "old-needed"}))
	for id, j := range map[string]ledger.Job{
		"old-needed": {Started: longAgo, Ended: &longAgo, Outcome: ledger.Done},
		"old":        {Started: longAgo, Ended: &longAgo, Outcome: ledger.Undone, Order: 7},
		"old-open":   {Started: longAgo, Outcome: ledger.Incomplete},
		"new":        {Started: now, Ended: &now, Outcome: ledger.Done, Order: 7},
		"new-open":   {Started: now.Add(time.Second), Outcome: ledger.Running, Order: 8},
	} {
		j.ID = id
		require.NoError(t, l.PutJob(ctx, j))
	}
	ids := func(of ledger.JobFilter) (out []string) {
		t.Helper()
		all, err := l.Jobs(ctx, of)
		require.NoError(t, err)
		for _, j := range all {
			out = append(out, j.ID)
		}
		return out
	}
	assert.Equal(t, []string{"new-open", "old-open"}, ids(ledger.JobFilter{Unfinished: true}))
	assert.Equal(t, []string{"new", "old"}, ids(ledger.JobFilter{Order: 7}))
	assert.Equal(t, []string{"new-open", "new"}, ids(ledger.JobFilter{Since: now}))
	assert.Empty(t, ids(ledger.JobFilter{Since: now, Unfinished: true, Order: 7}))
	one, err := l.Job(ctx, "old-open")
	require.NoError(t, err)
	assert.Equal(t, ledger.Incomplete, one.Outcome)
	_, err = l.Job(ctx, "none")
	assert.ErrorIs(t, err, fs.ErrNotExist)

	one.Ended, one.Outcome = &now, ledger.GivenUp
	require.NoError(t, l.PutJob(ctx, one))
	assert.Equal(t, []string{"new-open"}, ids(ledger.JobFilter{Unfinished: true}), "what has ended is so everywhere")
	dropped, err := l.DropJobs(ctx, now.AddDate(0, 0, -ledger.JobsFor))
	require.NoError(t, err)
	assert.Equal(t, []string{"old"}, dropped)
	assert.Equal(t, []string{"new-open", "new", "old-open", "old-needed"}, ids(ledger.JobFilter{}))
	for _, id := range []string{"new-open", "new", "old-open"} {
		one, err := l.Job(ctx, id)
		require.NoError(t, err)
		one.Started, one.Ended = longAgo, &longAgo
		require.NoError(t, l.PutJob(ctx, one))
	}
	require.NoError(t, l.DropSite(ctx, "filter.localhost"))
	_, err = l.DropJobs(ctx, now)
	require.NoError(t, err)
	assert.Empty(t, ids(ledger.JobFilter{}))
}

func redirects(t *testing.T, l ledger.Ledger) {
	for _, to := range []string{"http://x/", "http://y/"} {
		require.NoError(t, l.PutRedirect(ctx, ledger.Redirect{Address: "lockside.localhost/b", To: to}))
	}
	all, err := l.Redirects(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "http://y/", all[0].To)
	require.NoError(t, l.DropRedirect(ctx, "lockside.localhost/b"))
	require.NoError(t, l.DropRedirect(ctx, "lockside.localhost/b"))
	all, err = l.Redirects(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
}

// What a site takes is noted by the day on which it was looked at, and goes with it.
func measures(t *testing.T, l ledger.Ledger) {
	day := time.Date(2026, 11, 23, 23, 30, 0, 0, time.FixedZone("", -3600))
	x := ledger.Site{Address: "a.localhost", Bytes: 10, DatabaseBytes: 5, UpdatedAt: day.AddDate(0, 0, -500)}
	require.NoError(t, l.KeepSite(ctx, x))
	for _, bytes := range []int64{20, 30} {
		x.Bytes, x.CheckedAt = bytes, &day
		require.NoError(t, l.KeepSite(ctx, x))
	}
	require.NoError(t, l.PutMeasure(ctx, ledger.Measure{Address: "a.localhost", Day: "2026-11-01", Bytes: 7}))
	all, err := l.Measures(ctx)
	require.NoError(t, err)
	assert.Equal(t, []ledger.Measure{{Address: "a.localhost", Day: "2026-11-01", Bytes: 7},
		{Address: "a.localhost", Day: "2026-11-24", Bytes: 35}}, all, "in UTC; what is older than a year has gone")
	require.NoError(t, l.DropSite(ctx, "a.localhost"))
	all, err = l.Measures(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
}

// What is entrusted meanwhile stays, whatever is kept of a site; and nothing of a job's is
// lost by it. For several it is all or none.
func entrusted(t *testing.T, l ledger.Ledger) {
	x := ledger.Site{Address: "a.localhost/forum", Account: "quill", Release: "1.0.0", Care: care.Usual}
	require.NoError(t, l.KeepSite(ctx, x), "a new one")
	decided := care.Care{Accepts: "breaking", After: "0d", Between: "any", Notify: "nobody"}
	require.NoError(t, l.Entrust(ctx, map[string]care.Care{x.Address: decided}))
	later := x
	later.Release = "2.0.0"
	require.NoError(t, l.KeepSite(ctx, later))
	got, err := l.Site(ctx, x.Address)
	require.NoError(t, err)
	assert.Equal(t, decided, got.Care)
	assert.Equal(t, "2.0.0", got.Release)
	err = l.Entrust(ctx, map[string]care.Care{x.Address: care.Usual, "b.localhost": care.Usual})
	require.ErrorIs(t, err, fs.ErrNotExist)
	got, err = l.Site(ctx, x.Address)
	require.NoError(t, err)
	assert.Equal(t, decided, got.Care, "of none")
	assert.Equal(t, "2.0.0", got.Release)
	require.NoError(t, l.DropSite(ctx, x.Address))
}

func several(t *testing.T, open func(t *testing.T) ledger.Ledger) {
	var wait sync.WaitGroup
	for n := range 4 {
		l := open(t)
		wait.Go(func() {
			for i := range 25 {
				assert.NoError(t, l.PutSite(ctx, ledger.Site{Address: fmt.Sprintf("%d-%d", n, i)}))
			}
		})
	}
	wait.Wait()
	all, err := open(t).Sites(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 100)
}

// Rounds are listed, the newest first, for two months.
func rounds(t *testing.T, l ledger.Ledger) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	for _, days := range []int{-90, -3, 0} {
		require.NoError(t, l.PutRound(ctx, ledger.Round{At: now.AddDate(0, 0, days), Who: "steward", Seconds: 1.5,
			Lines: []ledger.RoundLine{{Address: "a.localhost", What: "updated", Detail: "to 2"}}}))
	}
	all, err := l.Rounds(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	assert.Equal(t, now, all[0].At)
	assert.Equal(t, ledger.Round{At: now.AddDate(0, 0, -3), Who: "steward", Seconds: 1.5,
		Lines: []ledger.RoundLine{{Address: "a.localhost", What: "updated", Detail: "to 2"}}}, all[1])
}

// Of several who would tell of the same trouble one does, and again only after a while.
func told(t *testing.T, l, another ledger.Ledger) {
	now := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	tell := func(l ledger.Ledger, at time.Time) bool {
		mine, err := l.Tell(ctx, ledger.Telling{Address: "a.localhost", Trouble: "check", At: at}, time.Hour)
		require.NoError(t, err)
		return mine
	}
	var mine atomic.Int32
	var wait sync.WaitGroup
	for n := range 8 {
		wait.Go(func() {
			if tell([]ledger.Ledger{l, another}[n%2], now) {
				mine.Add(1)
			}
		})
	}
	wait.Wait()
	assert.EqualValues(t, 1, mine.Load())
	assert.False(t, tell(another, now.Add(time.Minute)))
	assert.True(t, tell(another, now.Add(time.Hour)))
	all, err := l.Told(ctx)
	require.NoError(t, err)
	assert.Equal(t, []ledger.Telling{{Address: "a.localhost", Trouble: "check", At: now.Add(time.Hour)}}, all)
	require.NoError(t, l.Untell(ctx, "a.localhost", "update 2", "check"))
	assert.True(t, tell(l, now.Add(time.Hour)), "it is over, and comes again")
	require.NoError(t, l.DropSite(ctx, "a.localhost"))
	all, err = l.Told(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
}
