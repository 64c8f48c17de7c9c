//go:build unix

package e2e

import (
	"context"
	"net/url"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// A team's database gets another password, and is moved to another: each machine takes the new address with one call. A
// copy that is older than what the machine knows is not taken, nor a database of nobody or of another team; then the
// machine goes on where it was.
func TestTheLedgerIsReachedOtherwise(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	sql := func(statements ...string) {
		t.Helper()
		to, err := url.Parse(p.at)
		require.NoError(t, err)
		to.Path = "/postgres"
		c, err := pgx.Connect(context.Background(), to.String())
		require.NoError(t, err)
		defer c.Close(context.Background())
		for _, s := range statements {
			_, err = c.Exec(context.Background(), s)
			require.NoError(t, err, s)
		}
	}
	address := func(user *url.Userinfo, database string) string {
		to, err := url.Parse(p.at)
		require.NoError(t, err)
		if user != nil {
			to.User = user
		}
		to.Path = "/" + database
		return to.String()
	}
	refused := func(at, why string) {
		t.Helper()
		out, err := p.as("tivset", nil, "ledger", "use", at).CombinedOutput()
		require.Error(t, err)
		assert.Contains(t, string(out), why)
		p.must(p.demo.Folder, "ledger", "status")
	}
	p.must(p.demo.Folder, append(install("inkreach", "lockside.localhost/a"), "--quiet")...)

	sql("CREATE ROLE renamed LOGIN SUPERUSER PASSWORD 'another-one-7'")
	other := url.UserPassword("renamed", "another-one-7")
	assert.Contains(t, p.must(p.demo.Folder, "ledger", "use", address(other, "records")), "The same team's ledger")
	assert.Contains(t, p.must(p.demo.Folder, "sites"), "lockside.localhost")

	sql("CREATE DATABASE old TEMPLATE records", "CREATE DATABASE empty")
	p.must(p.demo.Folder, "label", "a", "customer=brook")
	sql("CREATE DATABASE moved")
	dump := filepath.Join(t.TempDir(), "records.dump")
	for _, c := range [][]string{{"pg_dump", "--format=custom", "--file=" + dump, address(other, "records")},
		{"pg_restore", "--no-owner", "--dbname=" + address(other, "moved"), dump}} {
		out, err := exec.Command(c[0], c[1:]...).CombinedOutput()
		require.NoError(t, err, "%v: %s", c, out)
	}
	for _, home := range []string{p.demo.Folder, p.second} {
		p.must(home, "ledger", "use", address(other, "moved"))
		assert.Contains(t, p.must(home, "label", "a"), "brook")
	}
	p.must(p.second, "label", "a", "contract=2026")
	assert.Contains(t, p.must(p.demo.Folder, "label", "a"), "2026")

	refused(address(other, "old"), "log")
	refused(address(other, "empty"), "has not the same")
	refused(address(url.UserPassword("renamed", "wrong"), "moved"), "password")
	another := sitetest.Records(t)
	stranger := newProgram(t)
	out, err := stranger.as("tivset", nil, "ledger", "use", another, "--as", "brook", "--yes").CombinedOutput()
	require.NoError(t, err, string(out))
	refused(another, "has not the same")
}
