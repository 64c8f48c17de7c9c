//go:build bench

package bench

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/answer/table"
	"tivset/internal/hosting/account"
	"tivset/internal/plan"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
)

// course installs so many sites of one app from a table, and gives how long that took.
func course(t *testing.T, w *sitetest.World, name string, sites, atOnce int) time.Duration {
	var rows strings.Builder
	rows.WriteString("number,at\n")
	for n := range sites {
		fmt.Fprintf(&rows, "%d,lockside.localhost/%s%d\n", n, name, n)
	}
	read, err := table.Read([]byte(rows.String()))
	require.NoError(t, err)
	began := time.Now()
	all, err := requests.Installs(read, plan.Request{App: "inkreach",
		Answers: answer.Given{"title": "Class {number}", "admin.email": "head@slate-school.localhost"}})
	require.NoError(t, err)
	b := &batch.Batch{Rows: all, Strict: true}
	require.NoError(t, b.Look(context.Background(), w.Desk))
	b.Carry(context.Background(), w.Desk, batch.How{Limits: batch.AtOnce(atOnce), Patient: true})
	for _, r := range b.Rows {
		require.NoError(t, r.Err)
	}
	return time.Since(began)
}

// A table of sites takes much less than one site after the other.
func TestTable(t *testing.T) {
	one, several := course(t, sitetest.Demo(t), "a", 100, 1), course(t, sitetest.Demo(t), "b", 100, batch.Usual.Account)
	fmt.Printf("100 sites from a table on the stand-in, %d at once: %.1f s; one after the other: %.1f s; ratio %.2f "+
		"(limit 0.6)\n", batch.Usual.Account, several.Seconds(), one.Seconds(), several.Seconds()/one.Seconds())
	require.Less(t, several.Seconds(), 0.6*one.Seconds())
}

// Over a long line it is the line that is waited for, by all of them at the same time.
func TestTableFarAway(t *testing.T) {
	w := sitetest.Demo(t)
	sitetest.OverSFTP(t, w)
	away := far(t, w.Demo.Standin.SSH.Address())
	w.EditAccount(func(a *account.Account) { a.Reach = "sftp://quill@" + away + w.Root })
	_, err := w.Reach.Hosts.Trust(away, w.Demo.Standin.SSH.Fingerprint())
	require.NoError(t, err)
	const sites, atOnce = 8, 8
	one, several := course(t, w, "a", sites, 1), course(t, w, "b", sites, atOnce)
	usual := course(t, w, "c", sites, batch.Usual.Account)
	fmt.Printf("%d sites from a table over SFTP, 50 ms round trip, %d at once: %.1f s, %d at once: %.1f s; one after the "+
		"other: %.1f s; ratio %.2f (limit 0.2) and %.2f\n", sites, atOnce, several.Seconds(), batch.Usual.Account,
		usual.Seconds(), one.Seconds(), several.Seconds()/one.Seconds(), usual.Seconds()/one.Seconds())
	require.Less(t, several.Seconds(), 0.2*one.Seconds())
}
