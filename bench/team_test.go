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
	"tivset/internal/secret"
	"tivset/internal/testing/sitetest"
)

// Ten thousand sites are read from a team's database in a moment.
func TestTenThousandSites(t *testing.T) {
	ctx := context.Background()
	l, err := team.Open(ctx, sitetest.Records(t), time.Now)
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
	_, err = l.Begin(ctx, sitetest.Demo(t).Home, "wharfinger", b, secret.Of("00"))
	require.NoError(t, err)
	took := median(7, func() {
		all, err := l.Sites(ctx)
		require.NoError(t, err)
		require.Len(t, all, 10_000)
	})
	fmt.Printf("10,000 sites from PostgreSQL on this machine: %d ms (limit 200)\n", took.Milliseconds())
	require.Less(t, took, 200*time.Millisecond)
}
