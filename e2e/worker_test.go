//go:build unix

package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"regexp"
	"syscall"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// team is a program whose ledger is in a database, with another machine of the team.
type teamed struct {
	*program
	second string // the home of the other machine
	at     string // the database
}

func newTeam(t *testing.T) *teamed {
	t.Helper()
	at := sitetest.Records(t)
	p := &teamed{program: newProgram(t), at: at}
	p.second = another(t, p.program)
	p.must(p.demo.Folder, "ledger", "use", at, "--as", "wharfinger", "--yes")
	var key struct{ Key string }
	p.of(&key, p.second, "team", "key")
	var added struct{ Team string }
	p.of(&added, p.demo.Folder, "team", "add", "steward", key.Key)
	p.must(p.second, "ledger", "use", at, "--team", added.Team)
	return p
}

// must runs the program at a home.
func (p *teamed) must(home string, args ...string) string {
	p.t.Helper()
	out, err := p.as("tivset", []string{"TIVSET_HOME=" + home}, args...).CombinedOutput()
	require.NoError(p.t, err, "%v: %s", args, out)
	return string(out)
}

// works starts a worker at a home.
func (p *teamed) works(home string, more ...string) *exec.Cmd {
	p.t.Helper()
	c := p.as("tivset-minding", []string{"TIVSET_HOME=" + home}, append([]string{"worker", "--lease", "3s"}, more...)...)
	var said bytes.Buffer
	c.Stderr = &said
	require.NoError(p.t, c.Start())
	p.t.Cleanup(func() {
		_ = c.Process.Kill()
		_ = c.Wait()
		if p.t.Failed() {
			p.t.Log(said.String())
		}
	})
	return c
}

// anew sees that a worker that stood still has begun anew, and then ends it.
func (p *teamed) anew(w *exec.Cmd) {
	p.t.Helper()
	require.Eventually(p.t, func() bool {
		words, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", w.Process.Pid))
		return err != nil || bytes.Contains(words, []byte("--anew"))
	}, 10*time.Second, 20*time.Millisecond, "who was away does not go on")
	_ = w.Process.Kill()
	_ = w.Wait()
}

type order struct {
	Number int
	State  string
	Result *struct{ Code int }
}

// ends waits until an order has ended.
func (p *teamed) ends(number int) (o order) {
	p.t.Helper()
	require.Eventually(p.t, func() bool {
		var all []order
		p.of(&all, p.demo.Folder, "queue", "list", "--most", "1000")
		for _, one := range all {
			if one.Number == number && one.State != "waiting" && one.State != "running" {
				o = one
				return true
			}
		}
		return false
	}, time.Minute, 200*time.Millisecond, "order %d", number)
	return o
}

func (p *teamed) put(args ...string) int {
	p.t.Helper()
	var put struct{ Number int }
	p.of(&put, p.demo.Folder, append(args, "--queue")...)
	return put.Number
}

// What is put on the queue on one machine is done by a worker on another, and can be followed
// and cancelled from anywhere; what fails is undone and says why.
func TestQueue(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	n := p.put(install("inkreach", "lockside.localhost/journal", "--yes")...)
	out, err := p.as("tivset", nil, append(install("inkreach", "lockside.localhost/journal"), "--queue", "--yes")...).
		CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "on the queue already")
	w := p.works(p.second)
	followed := p.must(p.demo.Folder, "jobs", "--follow", fmt.Sprint(n))
	assert.Contains(t, followed, "✓ Check the site")
	assert.Contains(t, followed, "done.")
	assert.Contains(t, p.must(p.demo.Folder, "check", "journal"), "all 12 checks passed")
	assert.Contains(t, p.must(p.demo.Folder, "jobs", "--who"), "wharfinger", "who asked, not who did it")

	shown := p.must(p.demo.Folder, "remove", "journal", "--dry-run", "--queue")
	assert.Contains(t, shown, "A dry run")
	if text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", w.Process.Pid)); err == nil {
		t.Log(regexp.MustCompile(`VmHWM.*`).FindString(string(text)))
	}

	bad := p.put(install("slateroom", "slate-school.localhost/class", "-a", "seats=4000", "--yes")...)
	assert.Equal(t, "failed", p.ends(bad).State)
	out, _ = p.as("tivset", nil, "jobs", "--follow", fmt.Sprint(bad)).CombinedOutput()
	assert.Contains(t, string(out), "the page answered 500")
	assert.Contains(t, string(out), "undone: ")
	for args, words := range map[string][]string{"no site has this address": {"backup", "journal", "forum"},
		"of this machine": {"backup", "journal", "--into", "x"}, "no priority": {"backup", "journal", "--priority", "soon"},
		"--parallel is of this machine": {"backup", "journal", "--parallel", "2"},
		"maintain --queue":              {"update", "--due"}} {
		out, err := p.as("tivset", nil, append(words, "--queue", "--yes")...).CombinedOutput()
		require.Error(t, err)
		assert.Contains(t, string(out), args)
	}
	require.NoError(t, w.Process.Signal(syscall.SIGINT))
	require.NoError(t, w.Wait(), "Ctrl-C ends a worker when it has nothing under way")
	waits := p.put("backup", "journal", "--yes")
	assert.Contains(t, p.must(p.demo.Folder, "queue", "cancel", fmt.Sprint(waits)), "cancelled")
	assert.Equal(t, "cancelled", p.ends(waits).State)
}

// A worker that is killed, or stands still for longer than its lease, loses what it had:
// another one ends what was begun and does it again. One that wakes up late does nothing more.
func TestWorkersDie(t *testing.T) {
	servers.Slow(t)
	for name, how := range map[string]syscall.Signal{"killed": syscall.SIGKILL, "stopped": syscall.SIGSTOP} {
		t.Run(name, func(t *testing.T) {
			p := newTeam(t)
			first := p.works(p.second)
			for n, at := range []string{"one", "two", "three"} {
				number := p.put(install("slateroom", "slate-school.localhost/"+at, "--yes")...)
				require.Eventually(t, func() bool {
					var jobs []struct {
						Outcome string
						Order   int
					}
					p.of(&jobs, p.demo.Folder, "jobs")
					return len(jobs) > 0 && jobs[0].Order == number
				}, time.Minute, 20*time.Millisecond)
				time.Sleep(time.Duration(n*150) * time.Millisecond)
				require.NoError(t, first.Process.Signal(how))
				away := time.Now()
				second := p.works(p.demo.Folder)
				o := p.ends(number)
				assert.Equal(t, "done", o.State)
				assert.Contains(t, p.must(p.demo.Folder, "check", at), "checks passed")
				if how == syscall.SIGSTOP { // it may have ended the order just before
					time.Sleep(time.Until(away.Add(4 * time.Second)))
					require.NoError(t, first.Process.Signal(syscall.SIGCONT))
				}
				if how == syscall.SIGKILL {
					_ = first.Wait()
				} else {
					p.anew(first)
				}
				first = second
			}
			var jobs []struct{ Outcome, What, Address string }
			p.of(&jobs, p.demo.Folder, "jobs")
			installed := map[string]int{}
			for _, j := range jobs {
				if j.What == "install" && j.Outcome == "done" {
					installed[j.Address]++
				} else {
					assert.Equal(t, "undone", j.Outcome)
				}
			}
			assert.Len(t, installed, 3)
			for at, n := range installed {
				assert.Equal(t, 1, n, "%s is done once", at)
			}
			for _, at := range []string{"one", "two", "three"} {
				p.must(p.demo.Folder, "remove", at, "--no-backup", "--yes")
			}
			assert.NoDirExists(t, p.demo.Standin.Root+"/.tivset/busy")
		})
	}
}

// of runs the program at a home and reads the document that it prints.
func (p *teamed) of(into any, home string, args ...string) {
	p.t.Helper()
	out, err := p.as("tivset", []string{"TIVSET_HOME=" + home}, append(args, "--json")...).Output()
	require.NoError(p.t, err, "%v: %s", args, out)
	require.NoError(p.t, json.Unmarshal(out, into), "%s", out)
}

// life is what workers are to do with a site, one order after the other.
type life struct {
	name  string
	stage int // of the stages, that was put on the queue last
	order int
}

// next puts the next of a site's orders on the queue; false when it has had all.
func (p *teamed) next(l *life) bool {
	p.t.Helper()
	old, home := "lockside.localhost/"+l.name, "lockside.localhost/"+l.name+"-moved"
	stages := [][]string{append(install("inkreach", old), "--release", "1.3.2"), {"update", old},
		{"move", old, "--at", home}}
	if l.stage == len(stages) {
		return false
	}
	l.order = p.put(append(stages[l.stage], "--yes")...)
	l.stage++
	return true
}

// goOn puts the next orders of those sites on the queue whose last one is done.
func (p *teamed) goOn(lives []*life) (under int) {
	p.t.Helper()
	var all []order
	p.of(&all, p.demo.Folder, "queue", "list", "--most", "10000")
	states := map[int]string{}
	for _, o := range all {
		states[o.Number] = o.State
	}
	for _, l := range lives {
		switch state := states[l.order]; state {
		case "waiting", "running":
			under++
		case "done":
			if p.next(l) {
				under++
			}
		default:
			require.Fail(p.t, "it did not work", "%s, number %d: %s", l.name, l.order, state)
		}
	}
	return under
}

// Workers are killed, and made to stand still, at any moment, again and again, while they
// install, update and move sites: no order is lost, none is done twice, nothing is left over.
func TestWorkersKilledAtRandom(t *testing.T) {
	servers.Slow(t)
	kills := map[bool]int{true: 200, false: 9}[os.Getenv("TIVSET_SWEEP") == "whole"]
	p := newTeam(t)
	before := demo.ButBackups(p.snapshot())
	homes := []string{p.demo.Folder, p.second}
	var workers, halted []*exec.Cmd
	for n := range 4 {
		workers = append(workers, p.works(homes[n%2]))
	}
	var lives []*life
	for kill := range kills {
		if kill%3 == 0 {
			lives = append(lives, &life{name: fmt.Sprint("s", kill)})
			p.next(lives[len(lives)-1])
		}
		p.goOn(lives)
		time.Sleep(time.Duration(100+kill*137%900) * time.Millisecond)
		n := kill % len(workers)
		if kill%3 == 2 {
			require.NoError(t, workers[n].Process.Signal(syscall.SIGSTOP))
			halted = append(halted, workers[n])
			if last := len(halted) - 3; last >= 0 { // one that was away for long wakes up meanwhile
				require.NoError(t, halted[last].Process.Signal(syscall.SIGCONT))
				p.anew(halted[last])
			}
		} else {
			require.NoError(t, workers[n].Process.Kill())
			_ = workers[n].Wait()
		}
		workers[n] = p.works(homes[kill%2])
	}
	for last, since := 0, time.Now(); ; time.Sleep(200 * time.Millisecond) {
		under, had := p.goOn(lives), 0
		for _, l := range lives {
			had += l.stage
		}
		if had -= under; had != last {
			last, since = had, time.Now()
		}
		if under == 0 {
			break
		}
		require.Less(t, time.Since(since), time.Minute, "%d orders are lost: %s", under,
			p.must(p.demo.Folder, "queue", "list"))
	}
	time.Sleep(4 * time.Second) // for longer than the lease, all of them
	for _, w := range halted[max(0, len(halted)-2):] {
		require.NoError(t, w.Process.Signal(syscall.SIGCONT))
		p.anew(w)
	}
	p.livedOnce(lives)
	p.must(p.demo.Folder, "check", "--all", "-q")
	p.must(p.demo.Folder, "remove", "--all", "--no-backup", "--yes", "-q")
	assert.Equal(t, before, demo.ButBackups(p.snapshot()), "nothing is left over")
}

// livedOnce sees that each site went through its life, and through each part of it once.
func (p *teamed) livedOnce(lives []*life) {
	p.t.Helper()
	var jobs []struct{ Outcome, What, Address string }
	p.of(&jobs, p.demo.Folder, "jobs")
	ended := map[string]int{}
	for _, j := range jobs {
		ended[j.Outcome+" "+j.What+" "+path.Base(j.Address)]++
	}
	var sites []struct{ Address, Release string }
	p.of(&sites, p.demo.Folder, "sites")
	assert.Len(p.t, sites, len(lives))
	for _, l := range lives {
		for _, one := range []string{"done install " + l.name, "done update " + l.name, "done move " + l.name + "-moved"} {
			assert.Equal(p.t, 1, ended[one], one)
			delete(ended, one)
		}
	}
	for _, x := range sites {
		assert.Equal(p.t, "1.4.0", x.Release, x.Address)
	}
	undone := 0
	for what, n := range ended {
		assert.Regexp(p.t, "^undone ", what, "%d times", n)
		undone += n
	}
	p.t.Logf("%d sites, %d jobs were taken back and done again", len(lives), undone)
}

// Who can write into the database, and is not of the team, orders nothing: neither with an
// order of their own nor by changing one.
func TestOrdersOfNobody(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	p.json(&struct{}{}, install("inkreach", "lockside.localhost/journal", "--yes")...)
	before := p.snapshot()
	n := p.put("remove", "journal", "--yes", "--no-backup")
	c, err := pgx.Connect(context.Background(), p.at)
	require.NoError(t, err)
	defer c.Close(context.Background())
	_, err = c.Exec(context.Background(), `UPDATE tivset.river_job SET args = jsonb_set(args, '{who}', '"somebody"')`)
	require.NoError(t, err)
	p.works(p.second)
	assert.Equal(t, "forged", p.ends(n).State)
	out, _ := p.as("tivset", nil, "jobs", "--follow", fmt.Sprint(n)).CombinedOutput()
	assert.Contains(t, string(out), "nobody of the team put this request there")
	assert.Equal(t, before, p.snapshot())

	// one that was carried out is put there again, when the site is one of somebody else's again
	n = p.put("remove", "journal", "--yes", "--no-backup")
	assert.Equal(t, "done", p.ends(n).State)
	p.json(&struct{}{}, install("inkreach", "lockside.localhost/journal", "--yes")...)
	before = p.snapshot()
	for _, statement := range []string{
		"UPDATE tivset.river_job SET state = 'available', finalized_at = NULL, metadata = '{}' WHERE id = $1",
		"INSERT INTO tivset.river_job (args, kind, max_attempts, queue, priority, state) SELECT args, kind, 1, 'default', " +
			"1, " +
			"'available' FROM tivset.river_job WHERE id = $1"} {
		_, err = c.Exec(context.Background(), statement, n)
		require.NoError(t, err)
		again := n
		require.NoError(t, c.QueryRow(context.Background(), "SELECT max(id) FROM tivset.river_job").Scan(&again))
		assert.Equal(t, "forged", p.ends(again).State)
		assert.Equal(t, before, p.snapshot(), "nothing was removed")
	}
}

// The sample of a control page orders an install and tells how it ended, also of one that is
// refused and of one that fails.
func TestControlPage(t *testing.T) {
	servers.Slow(t)
	servers.Need(t, "jq")
	p := newTeam(t)
	p.works(p.second)
	page := func(code int, args ...string) (said struct {
		OK       bool
		URL      string
		Problem  string
		Problems []string
	}) {
		t.Helper()
		c := p.as("sh", nil, append([]string{"../docs/samples/control-page.sh"}, args...)...)
		out, err := c.Output()
		require.Equal(t, code, c.ProcessState.ExitCode(), "%s %v", out, err)
		require.NoError(t, json.Unmarshal(out, &said), "%s", out)
		return said
	}
	done := page(0, "inkreach", "lockside.localhost/journal", "Lock Journal", "w@lockside.localhost")
	assert.True(t, done.OK)
	assert.Contains(t, done.URL, "/journal/")
	assert.NotEmpty(t, page(2, "inkreach", "lockside.localhots/x", "X", "w@lockside.localhost").Problems)
	kit := filepath.Join(p.demo.Folder, "demo/catalogue/inkreach/kit.yaml")
	text, err := os.ReadFile(kit)
	require.NoError(t, err)
	require.NoError(t,
		os.WriteFile(kit, bytes.Replace(text, []byte("written with Inkreach"), []byte("nothing"), 1), 0o600))
	failed := page(1, "inkreach", "lockside.localhost/other", "Other", "w@lockside.localhost")
	assert.False(t, failed.OK)
	assert.Contains(t, failed.Problem, "the front page")
}

// A worker is killed at the first of all that is due: the one that takes over does the rest, and only then is
// the order done.
func TestAWorkerDiesAtTheFirstOfManyThings(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	const sites = 5
	for n := range sites {
		p.json(&struct{}{}, install("inkreach", fmt.Sprintf("lockside.localhost/s%d", n), "--yes")...)
	}
	p.must(p.demo.Folder, "update", "--all", "--dry-run")
	var put []queued
	p.of(&put, p.demo.Folder, "maintain", "--queue", "--now")
	require.Len(t, put, 1)
	first := p.works(p.second)
	backups := func(outcome string) (all int) {
		var jobs []struct{ What, Outcome string }
		p.of(&jobs, p.demo.Folder, "jobs")
		for _, j := range jobs {
			if j.What == "backup" && j.Outcome == outcome {
				all++
			}
		}
		return all
	}
	require.Eventually(t, func() bool { return backups("done")+backups("running") > 0 }, time.Minute, 10*time.Millisecond)
	require.NoError(t, first.Process.Kill())
	_ = first.Wait()
	require.Less(t, backups("done"), sites, "it was killed in the middle")
	p.works(p.demo.Folder)
	assert.Equal(t, "done", p.ends(put[0].Number).State)
	assert.Equal(t, sites, backups("done"), "each is backed up, once")
}
