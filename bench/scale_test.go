//go:build bench

package bench

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/answer/care"
	"tivset/internal/records/ledger"
	"tivset/internal/records/team"
	"tivset/internal/secret"
	"tivset/internal/sites"
	"tivset/internal/testing/sitetest"
)

// madeUp are so many sites on record, in an account for every fifty, as an agency or a host has them: most of them
// good, backed up a day ago, of six apps, each with a customer for a label.
func madeUp(n int, now time.Time) (out []ledger.Site) {
	apps := []string{"inkreach", "willowbench", "slateroom", "pennywharf", "lampshelf", "towline"}
	for i := range n {
		at := fmt.Sprintf("site-%06d.localhost", i)
		backup, checked := now.Add(-time.Duration(i%30)*time.Hour), now.Add(-time.Duration(i%26)*time.Hour)
		health := "good"
		if i%50 == 0 {
			health = "bad"
		}
		out = append(out, ledger.Site{Address: at, URL: "http://" + at, App: apps[i%len(apps)], Release: "1.4.0",
			Title: fmt.Sprintf("Site %d", i), Account: fmt.Sprintf("quillmere-%04d", i/50), Folder: "web/" + at,
			Health: health, Care: care.Usual, InstalledAt: now, UpdatedAt: now, CheckedAt: &checked, LastBackupAt: &backup,
			Bytes: 8400, Files: 15, Job: "20261123-080000-abcd", Labels: map[string]string{"customer": strconv.Itoa(i / 20)},
			Entries:  []string{"CHANGES.txt", "admin", "config", "index.page", "parts", "style.css"},
			Database: &ledger.Database{Engine: "mariadb", Server: "main", Name: "quill_x", User: "quill_x"}})
	}
	return out
}

// A team's records of many sites: how long it takes to bring them, to join, to list, to filter. SITES says how many.
func TestManySitesOfATeam(t *testing.T) {
	n, err := strconv.Atoi(os.Getenv("SITES"))
	if err != nil {
		t.Skip("SITES says how many: SITES=100000 go test -tags bench -run ManySites -v ./bench")
	}
	ctx, at, home := context.Background(), sitetest.Records(t), sitetest.Demo(t).Home
	l, err := team.Open(ctx, at, time.Now)
	require.NoError(t, err)
	defer l.Close()
	took := func(what string, do func()) {
		began := time.Now()
		do()
		fmt.Printf("%d sites: %s: %d ms\n", n, what, time.Since(began).Milliseconds())
	}
	b := &team.Belongings{Sites: madeUp(n, time.Now())}
	took("brought, each with its entry of the log", func() {
		_, err = l.Begin(ctx, home, "wharfinger", b, secret.Of("00"))
		require.NoError(t, err)
	})
	took("the whole log followed by a machine that is new", func() {
		_, err := l.Charter(ctx)
		require.NoError(t, err)
	})
	f, err := sites.Filtered([]string{"app=inkreach", "health=bad"})
	require.NoError(t, err)
	for range 2 {
		took("all listed, each compared with the log, and filtered", func() {
			all, err := l.Sites(ctx)
			require.NoError(t, err)
			require.Len(t, all, n)
			found := 0
			for _, x := range all {
				if f.Holds(x, "") {
					found++
				}
			}
			require.Positive(t, found)
		})
	}
	took("one read", func() {
		_, err := l.Site(ctx, b.Sites[n/2].Address)
		require.NoError(t, err)
	})
	took("one written", func() { require.NoError(t, l.PutSite(ctx, b.Sites[n/2])) })
}
