//go:build unix

package e2e

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// Fourteen installs on four workers of two machines, two at once each: none fails by our own load.
func TestManyHands(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	var rows strings.Builder
	rows.WriteString("at,title\n")
	const sites = 14
	for n := range sites {
		fmt.Fprintf(&rows, "lockside.localhost/s%d,S%d\n", n, n)
	}
	var all []queued
	p.of(&all, p.demo.Folder, "install", "inkreach", "--table", p.file("many.csv", rows.String()), "-a",
		"admin.email=w@lockside.localhost", "--queue", "--yes")
	require.Len(t, all, sites)
	for n := range 4 {
		p.works([]string{p.demo.Folder, p.second}[n%2], "--parallel", "2")
	}
	for _, one := range all {
		assert.Equal(t, "done", p.ends(one.Number).State, "%v", one)
	}
	p.must(p.demo.Folder, "check", "--all", "-q")
}

// The database's password is changed while a worker runs: it fails nothing of what waits, and what it had at hand is
// done by one that knows the new password.
func TestAChangedPasswordOfTheDatabase(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	p.must(p.demo.Folder, append(install("inkreach", "lockside.localhost/a"), "--quiet")...)
	to, err := url.Parse(p.at)
	require.NoError(t, err)
	admin := *to
	admin.Path = "/postgres"
	c, err := pgx.Connect(context.Background(), admin.String())
	require.NoError(t, err)
	defer c.Close(context.Background())
	for _, statement := range []string{"CREATE ROLE worked LOGIN SUPERUSER PASSWORD 'the-first-1'"} {
		_, err = c.Exec(context.Background(), statement)
		require.NoError(t, err)
	}
	with := func(password string) string {
		other := *to
		other.User = url.UserPassword("worked", password)
		return other.String()
	}
	p.must(p.second, "ledger", "use", with("the-first-1"))
	p.works(p.second)
	require.Equal(t, "done", p.ends(p.put("backup", "a", "--yes")).State)
	_, err = c.Exec(context.Background(), "ALTER ROLE worked PASSWORD 'the-next-2'")
	require.NoError(t, err)
	sitetest.CutOff(t, p.at)
	n := p.put("backup", "a", "--yes")
	time.Sleep(5 * time.Second)
	for _, one := range []string{"failed", "forged", "stuck"} {
		assert.NotContains(t, p.must(p.demo.Folder, "queue", "list"), one)
	}
	p.must(p.second, "ledger", "use", with("the-next-2"))
	p.works(p.second)
	assert.Equal(t, "done", p.ends(n).State)
}
