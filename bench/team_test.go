//go:build bench

package bench

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/answer/care"
	"tivset/internal/records/ledger"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/secret"
	"tivset/internal/testing/sitetest"
)

// Ten thousand sites are read from a team's database in a moment.
func TestTenThousandSites(t *testing.T) {
	ctx := context.Background()
	at, first := sitetest.Records(t), sitetest.Demo(t).Home
	l, err := team.Open(ctx, at, time.Now)
	require.NoError(t, err)
	defer l.Close()
	b, now := &team.Belongings{}, time.Now()
	for n := range 10_000 {
		b.Sites = append(b.Sites, ledger.Site{Address: fmt.Sprintf("lockside.localhost/%05d", n),
			URL: fmt.Sprintf("http://lockside.localhost/%05d/", n), App: "inkreach", Release: "1.4.0", Title: "A journal",
			Account: "quillmere", Folder: fmt.Sprintf("web/lockside/%05d", n), Health: "good", Care: care.Usual,
			InstalledAt: now, UpdatedAt: now, Bytes: 8400, Files: 15, Job: "20261123-080000-abcd",
			Entries:  []string{"CHANGES.txt", "admin", "config", "index.page", "parts", "style.css"},
			Database: &ledger.Database{Engine: "mariadb", Server: "main", Name: "quill_x", User: "quill_x"}})
	}
	_, err = l.Begin(ctx, first, "wharfinger", b, secret.Of("00"))
	require.NoError(t, err)
	took := median(7, func() {
		all, err := l.Sites(ctx)
		require.NoError(t, err)
		require.Len(t, all, 10_000)
	})
	fmt.Printf("10,000 sites from PostgreSQL on this machine: %d ms (limit 200)\n", took.Milliseconds())
	require.Less(t, took, 200*time.Millisecond)

	// another program of the machine opens the team: with nothing new, and with two thousand entries that are
	founded, home := l.Fingerprint(), sitetest.Demo(t).Home
	me, err := team.Me(home)
	require.NoError(t, err)
	me.Name, me.May = "steward", trust.Operate
	require.NoError(t, l.Join(ctx, me, l.Place(first).Vault))
	enter := func() time.Duration {
		began := time.Now()
		other, err := team.Open(ctx, at, time.Now)
		require.NoError(t, err)
		defer other.Close()
		_, err = other.Enter(ctx, home, founded)
		require.NoError(t, err)
		return time.Since(began)
	}
	fmt.Printf("10,000 sites, a machine that joins follows the whole log: %d ms\n", enter().Milliseconds())
	nothing := median(7, func() { enter() })
	fmt.Printf("10,000 sites, a machine opens the team with nothing new: %d ms (limit 250)\n", nothing.Milliseconds())
	require.Less(t, nothing, 250*time.Millisecond)
	began := time.Now()
	for n := range 1000 {
		require.NoError(t, l.PutSite(ctx, b.Sites[n]))
	}
	record := time.Since(began) / 1000
	began = time.Now()
	for range 1000 {
		require.NoError(t, l.Did(ctx, trust.What{Kind: trust.OfSeen, Key: "lockside.localhost/00001", Note: "shown"}))
	}
	entry := time.Since(began) / 1000
	fmt.Printf("an entry of the log: %.2f ms (limit 2); a site's record with its entry: %.2f ms\n",
		float64(entry.Microseconds())/1000, float64(record.Microseconds())/1000)
	require.Less(t, entry, 2*time.Millisecond)
	some := enter()
	fmt.Printf("10,000 sites, a machine opens the team with 2,000 new entries: %d ms (limit 1000)\n", some.Milliseconds())
	require.Less(t, some, time.Second)
}
