//go:build unix

package e2e

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// What somebody writes into the team's database with SQL nobody acts on, whatever they type: an account that leads
// elsewhere, a journal whose undo would take a web folder away, the key of a stranger among the secrets.
func TestADatabaseThatLies(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	p.json(&struct{}{}, install("inkreach", "lockside.localhost/journal")...)
	c, err := pgx.Connect(context.Background(), p.at)
	require.NoError(t, err)
	defer c.Close(context.Background())
	sql := func(statement string) {
		t.Helper()
		_, err := c.Exec(context.Background(), "SET search_path TO tivset; "+statement)
		require.NoError(t, err)
	}
	refused := func(words string, args ...string) {
		t.Helper()
		run := p.as("tivset", nil, args...)
		out, err := run.CombinedOutput()
		require.Error(t, err, "%v: %s", args, out)
		assert.Equal(t, map[bool]int{true: 1, false: 3}[args[0] == "check"], run.ProcessState.ExitCode(), "%v: %s", args, out)
		assert.Contains(t, string(out), words, args)
	}
	before := p.snapshot()
	sql("CREATE TABLE kept AS SELECT * FROM accounts; UPDATE accounts SET file = replace(file, 'files: local:', " +
		"'files: ftp://quill@127.0.0.1:1/')")
	for _, args := range [][]string{{"check", "journal"}, {"account", "show", "quillmere"}, {"backup", "journal"},
		{"update", "journal", "--yes"}} {
		refused("nobody of the team wrote the record of account quillmere", args...)
	}
	sql("UPDATE accounts SET file = kept.file FROM kept; DROP TABLE kept")
	p.must(p.demo.Folder, "check", "journal")

	const id = "20261123-080000-abcd"
	sql(`INSERT INTO jobs (id, started, ended, number, record) VALUES ('` + id +
		`', '2026-11-23T08:00:00.000000000Z', '', 0,
		'{"job": "` + id + `", "what": "install", "account": "quillmere", "address": "lockside.localhost/journal",
			"outcome": "running"}');
		INSERT INTO journals (id, n, line, member, signature) VALUES ('` + id + `', 0, '{"journal": 1, "job": "` + id +
		`", "what": "install", "account": "quillmere"}', 'wharfinger', '')`)
	refused("nobody of the team wrote", "undo", id, "--yes")
	refused("nobody of the team wrote", "jobs")
	assert.Equal(t, before, p.snapshot())

	// an admin goes on without it, and the other machine follows
	out := p.must(p.demo.Folder, "ledger", "accept", "--yes")
	assert.Contains(t, out, "job "+id)
	p.must(p.demo.Folder, "jobs")
	p.must(p.second, "check", "journal")
	said := p.must(p.second, "history")
	assert.Contains(t, said, "accepted as it is in the database")
	p.must(p.second, "reveal", "journal")
	assert.Contains(t, p.must(p.demo.Folder, "history", "steward"), "passwords shown: ")
}

// A member who may only look, and types what changes something, changes nothing; and is told nothing that is not so.
func TestWhoMayOnlyLook(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	p.json(&struct{}{}, install("inkreach", "lockside.localhost/journal")...)
	p.must(p.demo.Folder, "backup", "journal")
	office := another(t, p.program)
	var key struct{ Key string }
	p.of(&key, office, "team", "key")
	var added struct{ Team string }
	p.of(&added, p.demo.Folder, "team", "add", "office", key.Key, "--may", "look")
	p.must(office, "ledger", "use", p.at, "--team", added.Team)
	before, records := p.snapshot(), p.must(p.demo.Folder, "sites", "--json")
	for _, args := range [][]string{{"forget", "journal", "--anyway", "--yes"}, {"care", "journal", "--accepts",
		"nothing"},
		{"label", "journal", "customer=x"}, {"remove", "journal", "--yes"}, {"backup", "journal", "--queue", "--yes"},
		{"team", "add", "more", key.Key}, {"account", "forget", "quillmere", "--yes"},
		{"ledger", "accept", "--yes"}} {
		run := p.as("tivset", []string{"TIVSET_HOME=" + office}, args...)
		out, err := run.CombinedOutput()
		assert.Error(t, err, "%v: %s", args, out)
		assert.NotContains(t, string(out), "no backup yet", args)
	}
	out, _ := p.as("tivset", []string{"TIVSET_HOME=" + office}, "account", "show", "quillmere").CombinedOutput()
	assert.NotContains(t, string(out), "0 files")
	assert.Contains(t, p.must(office, "sites"), "/journal")
	assert.Equal(t, before, p.snapshot())
	assert.Equal(t, records, p.must(p.demo.Folder, "sites", "--json"))
	p.must(p.demo.Folder, "reveal", "journal")
	text, err := os.ReadFile(filepath.Join(office, "config", "ledger.yaml"))
	require.NoError(t, err)
	assert.True(t, strings.Contains(string(text), added.Team))
}

// A worker whose machine is taken out of the team fails nothing of what waits: it gives back what it took, and ends.
// One
// that lacks a kit leaves it to another.
func TestWorkersThatLackSomething(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	p.json(&struct{}{}, install("inkreach", "lockside.localhost/journal")...)
	catalogues := filepath.Join(p.second, "config", "catalogues.yaml")
	text, err := os.ReadFile(catalogues)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(catalogues, []byte("built-in: false\n"), 0o600))
	without := p.works(p.second)
	n := p.put("backup", "journal", "--yes")
	require.Eventually(t, func() bool {
		out, _ := p.as("tivset", nil, "queue", "workers").CombinedOutput()
		return strings.Contains(string(out), "no app is called inkreach")
	}, 30*time.Second, 200*time.Millisecond)
	out, err := p.as("tivset", nil, "queue", "list").CombinedOutput()
	require.NoError(t, err)
	assert.Contains(t, string(out), "no app is called inkreach")
	p.works(p.demo.Folder)
	assert.Equal(t, "done", p.ends(n).State)

	require.NoError(t, os.WriteFile(catalogues, text, 0o600))
	p.must(p.demo.Folder, "team", "remove", "steward")
	ended := make(chan error, 1)
	go func() { ended <- without.Wait() }()
	for over := false; !over; {
		assert.Equal(t, "done", p.ends(p.put("backup", "journal", "--yes")).State)
		select {
		case err := <-ended:
			over = true
			assert.Error(t, err, "it says why")
		default:
		}
	}
}
