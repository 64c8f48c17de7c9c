//go:build unix

package e2e

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/line"
	"tivset/internal/trial/servers"
)

// queued is what is said of an order that was put on the queue.
type queued struct {
	Outcome string
	Number  int
	At      string
}

// putAll puts several orders on the queue, and waits until all are done.
func (p *teamed) putAll(args ...string) (all []queued) {
	p.t.Helper()
	p.of(&all, p.demo.Folder, append(args, "--queue", "--yes")...)
	for _, one := range all {
		assert.Equal(p.t, "done", p.ends(one.Number).State, "%v", one)
	}
	return all
}

// followed is what is said of an order.
func (p *teamed) followed(number int) string {
	out, _ := p.as("tivset", nil, "jobs", "--follow", fmt.Sprint(number)).CombinedOutput()
	return string(out)
}

// file writes a file of the machine on which is typed.
func (p *teamed) file(name, text string) string {
	p.t.Helper()
	name = filepath.Join(p.t.TempDir(), name)
	require.NoError(p.t, os.WriteFile(name, []byte(text), 0o600))
	return name
}

// records asks the team's database.
func (p *teamed) records(query string, args ...any) (out string) {
	p.t.Helper()
	c, err := pgx.Connect(context.Background(), p.at)
	require.NoError(p.t, err)
	defer c.Close(context.Background())
	require.NoError(p.t, c.QueryRow(context.Background(), query, args...).Scan(&out))
	return out
}

// A table becomes an order for each row, of which workers on two machines take what they can;
// several sites likewise.
func TestOrdersOfATable(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	p.works(p.second)
	p.works(p.demo.Folder)
	course := p.file("course.csv", "at,number\nslate-school.localhost/c1,1\nslate-school.localhost/c2,2\n"+
		"slate-school.localhost/c3,3\nslate-school.localhost/c4,4\n")
	words := []string{"install", "slateroom", "--table", course, "-a", "title=@@Class {number}", "-a",
		"admin.email=w@lockside.localhost", "--accept-licence"}
	assert.Len(t, p.putAll(words...), 4)
	var sites []struct{ Address, Title, Release string }
	p.of(&sites, p.demo.Folder, "sites")
	titles := map[string]bool{}
	for _, x := range sites {
		titles[x.Title] = true
	}
	assert.Equal(t, map[string]bool{"@Class 1": true, "@Class 2": true, "@Class 3": true, "@Class 4": true}, titles)
	assert.Empty(t, p.putAll(words...), "what is there is not done again")

	copies := p.file("copies.csv", "site,at\nc1,slate-school.localhost/d1\nc2,slate-school.localhost/d2\n")
	assert.Len(t, p.putAll("copy", "--table", copies), 2)
	assert.Len(t, p.putAll("backup", "--all"), 6)
	assert.Len(t, p.putAll("check", "c1", "d2"), 2)

	out, err := p.as("tivset", nil, "remove", "c3", "nowhere", "--no-backup", "--queue", "--yes").CombinedOutput()
	require.Error(t, err, "%s", out)
	assert.Contains(t, string(out), "nowhere: no site has this address")
	assert.Contains(t, string(out), "Nothing was touched")
	assert.NotContains(t, p.must(p.demo.Folder, "jobs", "--who"), "root", "who asked is named, on every machine")
}

// Files that are named go with an order, sealed; one that is changed on its way is not used.
func TestOrdersWithFiles(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	answers := p.file(
		"forum.yaml",
		"install: inkreach\nat: lockside.localhost/journal\nanswers:\n  title: Lock Journal\n"+
			"  admin.email: w@lockside.localhost\n",
	)
	password := p.file("password", "Kranich-Teekanne-74-Steg\n")
	n := p.put(
		"install",
		"inkreach",
		"--at",
		"lockside.localhost/journal",
		"--answers",
		answers,
		"-a",
		"admin.password=@"+
			password,
		"--accept-licence",
		"--yes",
	)
	require.NoError(t, os.Remove(answers))
	require.NoError(t, os.Remove(password))
	assert.Equal(t, "0", p.records("SELECT count(*)::text FROM tivset.river_job WHERE args::text LIKE '%Kranich%' OR "+
		"args::text LIKE '%'||encode('Kranich', 'base64')||'%'"), "what was answered is sealed")
	p.works(p.second)
	require.Equal(t, "done", p.ends(n).State, p.followed(n))
	assert.Contains(t, p.must(p.demo.Folder, "reveal", "journal", "--json"), "Kranich-Teekanne-74-Steg")

	folder := t.TempDir()
	p.must(p.demo.Folder, "backup", "journal", "--into", folder)
	made, err := filepath.Glob(filepath.Join(folder, "*.zst"))
	require.NoError(t, err)
	require.Len(t, made, 1)
	n = p.put("restore", "journal", "--from", made[0], "--yes")
	require.NoError(t, os.Remove(made[0]))
	assert.Equal(t, "done", p.ends(n).State, p.followed(n))
	p.must(p.demo.Folder, "check", "journal")
	assert.Equal(t, "0", p.records("SELECT count(*)::text FROM tivset.order_files"), "they are gone with the order")
}

func TestAFileOfAnOrderIsChanged(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	var numbers []int
	for _, at := range []string{"one", "two"} {
		p.must(p.demo.Folder, append(install("inkreach", "lockside.localhost/"+at), "--yes")...)
		folder := t.TempDir()
		p.must(p.demo.Folder, "backup", at, "--into", folder)
		made, err := filepath.Glob(filepath.Join(folder, "*.zst"))
		require.NoError(t, err)
		numbers = append(numbers, p.put("restore", at, "--from", made[0], "--yes"))
	}
	before := p.snapshot()
	assert.Equal(t, "2", p.records("SELECT count(DISTINCT number)::text FROM tivset.order_files"))
	p.records("UPDATE tivset.order_files SET sealed = (SELECT sealed FROM tivset.order_files WHERE number = $1 LIMIT 1) "+
		"WHERE number = $2 AND part = 1 RETURNING number::text", numbers[0], numbers[1])
	p.records("DELETE FROM tivset.order_files WHERE number = $1 AND part = 1 RETURNING number::text", numbers[0])
	p.works(p.second)
	for _, n := range numbers {
		assert.Equal(t, "failed", p.ends(n).State)
		out, _ := p.as("tivset", nil, "jobs", "--follow", fmt.Sprint(n)).CombinedOutput()
		assert.Contains(t, string(out), "not what was put there")
	}
	assert.Equal(t, before, p.snapshot())
}

// How an order ended is mailed to whom that is to be told, also when it failed.
func TestAnOrderIsToldOf(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	p.works(p.second)
	tell := []string{"--tell", "steward@lockside.localhost"}
	good := p.put(append(install("inkreach", "lockside.localhost/journal", "--yes"), tell...)...)
	bad := p.put(append(install("slateroom", "slate-school.localhost/class", "-a", "seats=4000", "--yes"), tell...)...)
	assert.Equal(t, "done", p.ends(good).State)
	assert.Equal(t, "failed", p.ends(bad).State)
	mails := "" // they are sent once it is on record how the order ended
	require.Eventually(t, func() bool {
		inside, err := os.ReadDir(p.demo.Standin.Mailbox)
		require.NoError(t, err)
		mails = ""
		for _, i := range inside {
			text, err := os.ReadFile(filepath.Join(p.demo.Standin.Mailbox, i.Name()))
			require.NoError(t, err)
			mails += string(text)
		}
		return strings.Contains(mails, fmt.Sprintf("Number %d,", good)) && strings.Contains(mails, fmt.Sprintf("Number %d,",
			bad))
	}, 20*time.Second, 50*time.Millisecond)
	mails = strings.ReplaceAll(strings.ReplaceAll(mails, "=\r\n", ""), "=\n", "")
	for _, words := range []string{"steward@lockside.localhost", fmt.Sprintf("Number %d, install of ", good), "It is done",
		fmt.Sprintf("Number %d, install of ", bad), "the page answered 500"} {
		assert.Contains(t, mails, words)
	}
	out, err := p.as("tivset", nil, "backup", "journal", "--queue", "--tell", "nobody", "--yes").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "--tell nobody")
}

// A worker for some accounts has their orders for itself, those that were there before too;
// when it is gone, others have them.
func TestWorkersOfAnAccount(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	early := p.put(install("inkreach", "lockside.localhost/early", "--yes")...)
	own := p.works(p.second, "--accounts", "quillmere")
	assert.Equal(t, "done", p.ends(early).State)
	p.works(p.demo.Folder)
	by := func(number int) string {
		return p.records(
			"SELECT args->>'what' || ' by ' || attempted_by[array_upper(attempted_by, 1)] FROM tivset.river_job "+
				"WHERE id = $1",
			number,
		)
	}
	for n := range 4 {
		number := p.put(install("inkreach", fmt.Sprintf("lockside.localhost/s%d", n), "--yes")...)
		assert.Equal(t, "done", p.ends(number).State)
		assert.Contains(t, by(number), "install by steward")
	}
	require.NoError(t, own.Process.Kill())
	late := p.put(install("inkreach", "lockside.localhost/late", "--yes")...)
	assert.Equal(t, "done", p.ends(late).State)
	assert.Contains(t, by(late), "install by wharfinger")
	out, err := p.as("tivset", nil, "worker", "--accounts", "quilmere").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "quilmere")
}

// Rounds are put on the queue by whichever machine questions: of an account there is one, and what
// is due is done once.
func TestRoundsOnTheQueue(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	p.json(&struct{}{}, install("inkreach", "lockside.localhost/journal", "--yes")...)
	p.must(p.demo.Folder, "update", "journal", "--dry-run")
	var first, second []queued
	p.of(&first, p.demo.Folder, "maintain", "--queue", "--now")
	p.of(&second, p.second, "maintain", "--queue", "--now")
	require.Len(t, first, 1)
	assert.Equal(t, queued{"queued", first[0].Number, "quillmere"}, first[0])
	assert.Equal(t, []queued{{"there", first[0].Number, "quillmere"}}, second)
	assert.Empty(t, p.must(p.second, "maintain", "--queue", "--now", "--quiet"), "cron is to mail nothing")
	p.works(p.second)
	require.Equal(t, "done", p.ends(first[0].Number).State)
	var after []queued
	p.of(&after, p.second, "maintain", "--queue", "--now")
	assert.Empty(t, after, "nothing is due any more")
	var status struct {
		Did []struct{ What string }
	}
	p.of(&status, p.demo.Folder, "maintain", "status")
	var what []string
	for _, d := range status.Did {
		what = append(what, d.What)
	}
	assert.Equal(t, []string{"backed up"}, what, "the machine that asked knows what the other did")
}

// A worker whose database is away for longer than its lease waits for it, and works on.
func TestAWorkerOutlastsTheDatabase(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	to, err := url.Parse(p.at)
	require.NoError(t, err)
	cut := line.New(t, to.Host)
	file := filepath.Join(p.second, "config/ledger.yaml")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	require.Contains(t, string(text), to.Host)
	require.NoError(t, os.WriteFile(file, []byte(strings.ReplaceAll(string(text), to.Host, cut.Address)), 0o600))
	w := p.works(p.second)
	number := p.put(install("slateroom", "slate-school.localhost/one", "--yes")...)
	assert.Equal(t, "done", p.ends(number).State)
	cut.Cut(true)
	number = p.put(install("slateroom", "slate-school.localhost/two", "--yes")...)
	time.Sleep(5 * time.Second)
	cut.Cut(false)
	assert.Equal(t, "done", p.ends(number).State)
	p.anew(w)
	assert.Contains(t, p.must(p.demo.Folder, "check", "two"), "checks passed")
}
