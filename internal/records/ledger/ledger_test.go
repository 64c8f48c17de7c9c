package ledger_test

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer/care"
	"tivset/internal/records/ledger"
)

func open(t *testing.T, file string) *ledger.SQLite {
	t.Helper()
	l, err := ledger.Open(context.Background(), file)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l
}

func TestLedger(t *testing.T) {
	ctx, file := context.Background(), filepath.Join(t.TempDir(), "in/ledger.db")
	l := open(t, file)
	empty, err := l.Sites(ctx)
	require.NoError(t, err)
	assert.Equal(t, []ledger.Site{}, empty, "an empty array in JSON, not null")
	now := time.Date(2026, 11, 23, 8, 0, 0, 5, time.UTC)
	site := ledger.Site{Address: "b.localhost/forum", Title: `it's "x"`, InstalledAt: now, Entries: []string{"a"},
		Database: &ledger.Database{Name: "d"}}
	require.NoError(t, l.PutSite(ctx, site))
	require.NoError(t, l.PutSite(ctx, ledger.Site{Address: "a.localhost"}))
	site.Title = "new"
	require.NoError(t, l.PutSite(ctx, site))
	got, err := open(t, file).Site(ctx, site.Address)
	require.NoError(t, err)
	assert.Equal(t, site, got)
	addresses, err := l.Addresses(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"a.localhost", "b.localhost/forum"}, addresses)
	require.NoError(t, l.DropSite(ctx, "a.localhost"))
	require.NoError(t, l.DropSite(ctx, "a.localhost"))
	_, err = l.Site(ctx, "a.localhost")
	assert.ErrorIs(t, err, fs.ErrNotExist)

	for i, id := range []string{"1", "3", "2"} {
		require.NoError(t, l.PutJob(ctx, ledger.Job{ID: id, Started: now.Add(time.Duration(i) * time.Millisecond)}))
	}
	jobs, err := l.Jobs(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"2", "3", "1"}, []string{jobs[0].ID, jobs[1].ID, jobs[2].ID}, "newest first")
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
}

func TestTwoPrograms(t *testing.T) {
	ctx, file := context.Background(), filepath.Join(t.TempDir(), "ledger.db")
	var wait sync.WaitGroup
	for n := range 4 {
		wait.Go(func() {
			l, err := ledger.Open(ctx, file)
			if !assert.NoError(t, err) {
				return
			}
			defer l.Close()
			for i := range 25 {
				assert.NoError(t, l.PutSite(ctx, ledger.Site{Address: fmt.Sprintf("%d-%d", n, i)}))
			}
		})
	}
	wait.Wait()
	all, err := open(t, file).Sites(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 100)
}

func TestNewerFormat(t *testing.T) {
	file := filepath.Join(t.TempDir(), "ledger.db")
	require.NoError(t, open(t, file).SetFormatForTest(9))
	_, err := ledger.Open(context.Background(), file)
	assert.ErrorContains(t, err, "format 9")
}

// A ledger of before there were redirects has them afterwards, and keeps what it had.
func TestOlderFormat(t *testing.T) {
	ctx, file := context.Background(), filepath.Join(t.TempDir(), "ledger.db")
	l := open(t, file)
	require.NoError(t, l.PutSite(ctx, ledger.Site{Address: "chandlery.localhost"}))
	require.NoError(t, l.BeforeRedirectsForTest())
	require.NoError(t, l.Close())
	l = open(t, file)
	all, err := l.Redirects(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
	require.NoError(t, l.PutRedirect(ctx, ledger.Redirect{Address: "lockside.localhost/b", To: "http://x/"}))
	require.NoError(t, l.PutRedirect(ctx, ledger.Redirect{Address: "lockside.localhost/b", To: "http://y/"}))
	all, err = l.Redirects(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "http://y/", all[0].To)
	require.NoError(t, l.DropRedirect(ctx, "lockside.localhost/b"))
	addresses, err := l.Addresses(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"chandlery.localhost"}, addresses)
}

// What is entrusted meanwhile stays, whatever is kept of a site; and nothing of a job's is
// lost by it. For several it is all or none.
func TestEntrustedMeanwhile(t *testing.T) {
	ctx := context.Background()
	l, err := ledger.Open(ctx, filepath.Join(t.TempDir(), "ledger.db"))
	require.NoError(t, err)
	defer l.Close()
	x := ledger.Site{Address: "a.localhost/forum", Account: "quill", Release: "1.0.0", Care: care.Usual}
	require.NoError(t, l.KeepSite(ctx, x), "a new one")
	decided := care.Care{Takes: "breaking", Waits: "0d", Hours: "any", Tells: "nobody"}
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
}
