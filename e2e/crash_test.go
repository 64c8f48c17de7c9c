//go:build unix

package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/hosting/account"
	"tivset/internal/trial/servers"
)

// program runs the program against a demo.
type program struct {
	t    *testing.T
	demo *demo.Demo
}

func newProgram(t *testing.T) *program {
	t.Helper()
	d, err := demo.Start(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	return &program{t, d}
}

// as makes a command; name is one of those that the test binary doubles as.
func (p *program) as(name string, env []string, args ...string) *exec.Cmd {
	p.t.Helper()
	path, err := exec.LookPath(name)
	require.NoError(p.t, err)
	c := exec.Command(path, args...)
	c.Env = append(append(os.Environ(), "TIVSET_HOME="+p.demo.Folder, "TERM=xterm-256color", "NO_COLOR=1"), env...)
	return c
}

// json runs the program and reads the document that it prints.
func (p *program) json(into any, args ...string) {
	p.t.Helper()
	out, err := p.as("tivset", nil, append(args, "--json")...).Output()
	require.NoError(p.t, err, "%s", out)
	require.NoError(p.t, json.Unmarshal(out, into))
}

func (p *program) snapshot() string {
	p.t.Helper()
	s, err := demo.Snapshot(p.demo)
	require.NoError(p.t, err)
	return s
}

func install(app, at string, more ...string) []string {
	return append([]string{"install", app, "--at", at, "-a", "title=Lockside Talk", "-a",
		"admin.email=wharfinger@lockside.localhost", "--accept-licence", "--yes"}, more...)
}

type job struct{ Job, What, Outcome, Address string }

// afterCrash undoes what the crash left, and makes sure that the account is as
// before or, when the job had settled, that the site is there.
func (p *program) afterCrash(before, address, moment string) (settled bool) {
	p.t.Helper()
	var jobs []job
	p.json(&jobs, "jobs")
	for _, j := range jobs {
		if j.Outcome != "cut off" && j.Outcome != "incomplete" {
			continue
		}
		var status struct{ Next []string }
		p.json(&status)
		require.Contains(p.t, status.Next, "tivset undo "+j.Job, "tivset alone names the command")
		var done job
		p.json(&done, "undo", j.Job)
		require.Contains(p.t, []string{"undone", "done"}, done.Outcome)
	}
	var sites []struct{ Address, URL string }
	p.json(&sites, "sites")
	for _, s := range sites {
		if strings.HasSuffix(s.Address, "/"+address) {
			settled = true
		}
	}
	after := p.snapshot()
	require.NotContains(p.t, after, ".tivset", moment)
	if !settled {
		require.Equal(p.t, before, after, moment)
	}
	return settled
}

// The program is killed at every line of the journal, before and after each
// step; each time undo brings the account back, or finishes a settled job.
func TestKilledAtEveryJournalRecord(t *testing.T) {
	servers.Slow(t)
	stride := servers.Sweep(4)
	for _, app := range []string{"inkreach", "willowbench"} {
		t.Run(app, func(t *testing.T) {
			t.Parallel()
			p := newProgram(t)
			killed, settled := 0, 0
			for n := 1; ; n += stride {
				require.Less(t, n, 300)
				before := p.snapshot()
				dir := fmt.Sprintf("s%d", n)
				err := p.as("tivset-dies", []string{fmt.Sprintf("DIE_AT=%d", n)}, install(app, "lockside.localhost/"+dir)...).Run()
				if err == nil {
					break
				}
				require.ErrorContains(t, err, "killed")
				killed++
				if p.afterCrash(before, dir, fmt.Sprintf("killed at the %d-th look at the clock", n)) {
					settled++
				}
			}
			t.Logf("killed %d times, %d of them after the job had settled", killed, settled)
			assert.Greater(t, killed, 20/stride)
			assert.Less(t, settled, killed/4)
		})
	}
}

// The program is killed while it undoes, too.
func TestKilledWhileUndoing(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	before := p.snapshot()
	p.demo.Standin.Database.OnStatement(func(s string) {
		if strings.HasPrefix(s, "INSERT INTO") { // the schema fails half way
			p.demo.Standin.Database.Drop()
			_ = p.demo.Standin.Database.Return()
		}
	})
	killed := 0
	for n := 1; ; n++ {
		require.Less(t, n, 300)
		c := p.as("tivset-dies", []string{fmt.Sprintf("DIE_AT=%d", n)}, install("inkreach", "lockside.localhost/journal")...)
		require.Error(t, c.Run())
		if c.ProcessState.ExitCode() == 1 {
			break
		}
		killed++
		require.False(t, p.afterCrash(before, "journal", fmt.Sprintf("killed at the %d-th look at the clock", n)))
	}
	t.Logf("killed %d times", killed)
	require.Equal(t, before, p.snapshot())
}

// The document of a failed install names its job.
func TestFailureNamesItsJob(t *testing.T) {
	p := newProgram(t)
	c := p.as("tivset", nil, install("willowbench", "lockside.localhost/forum", "--json")...)
	p.demo.Standin.Database.OnStatement(func(s string) {
		if strings.HasPrefix(s, "CREATE USER") {
			p.demo.Standin.Database.Drop()
			_ = p.demo.Standin.Database.Return()
		}
	})
	out, err := c.Output()
	require.Error(t, err)
	var failed struct {
		Outcome, Job string
		Error        struct{ What, Where, Remedy string }
	}
	require.NoError(t, json.Unmarshal(out, &failed), "%s", out)
	assert.Equal(t, 1, c.ProcessState.ExitCode())
	assert.Equal(t, "undone", failed.Outcome)
	assert.NotEmpty(t, failed.Error.Remedy)
	var jobs []job
	p.json(&jobs, "jobs")
	require.Len(t, jobs, 1)
	assert.Equal(t, jobs[0].Job, failed.Job)
}

// Resume brings a killed install to its end, with the password that was given.
func TestResumed(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	file := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(file, []byte("Kranich-Teekanne-74-Ufer"), 0o600))
	for i, n := range []int{14, 30, 45, 60, 70} {
		at := fmt.Sprintf("lockside.localhost/s%d", i)
		args := install("willowbench", at, "-a", "admin.password=@"+file, "-a", "board=The Lock")
		require.Error(t, p.as("tivset-dies", []string{fmt.Sprintf("DIE_AT=%d", n)}, args...).Run())
		var jobs []job
		p.json(&jobs, "jobs")
		require.Equal(t, "cut off", jobs[0].Outcome)
		reminded, err := p.as("tivset", nil, "sites").CombinedOutput()
		require.NoError(t, err)
		assert.Contains(t, string(reminded), "tivset resume "+jobs[0].Job)
		var done struct {
			Outcome string
			Site    struct{ Address string }
		}
		p.json(&done, "resume", jobs[0].Job)
		assert.Equal(t, "installed", done.Outcome)
		var creds struct{ Admin struct{ Password string } }
		p.json(&creds, "reveal", done.Site.Address)
		assert.Equal(t, "Kranich-Teekanne-74-Ufer", creds.Admin.Password)
	}
	assert.NotContains(t, p.snapshot(), ".tivset")
}

func TestKilledAtRandomMoments(t *testing.T) {
	servers.Slow(t)
	t.Run("local", func(t *testing.T) { killedAtRandomMoments(newProgram(t), 20, 17) })
	t.Run("SFTP", func(t *testing.T) {
		p := newProgram(t)
		s := p.demo.Standin.SSH
		p.reachedBy("sftp://quill@"+s.Address()+p.demo.Standin.Root, s.Fingerprint())
		killedAtRandomMoments(p, 6, 90)
	})
	t.Run("FTPS", func(t *testing.T) {
		p := newProgram(t)
		s := p.demo.Standin.FTP
		p.reachedBy("ftps://quill@"+s.Address()+"/", s.Fingerprint())
		killedAtRandomMoments(p, 6, 130)
	})
}

// reachedBy has the demo's account reached in another way.
func (p *program) reachedBy(reach, fingerprint string) {
	p.t.Helper()
	a, err := p.demo.Home.Account(demo.AccountName)
	require.NoError(p.t, err)
	a.Reach, a.Login = reach, &account.Access{Password: "plain:" + p.demo.Password}
	text, err := a.Format()
	require.NoError(p.t, err)
	file := filepath.Join(p.t.TempDir(), "account.yaml")
	require.NoError(p.t, os.WriteFile(file, text, 0o600))
	for _, args := range [][]string{{"account", "add", a.Name, "--from", file, "--replace"},
		{"account", "trust", a.Name, fingerprint}} {
		out, err := p.as("tivset", nil, args...).CombinedOutput()
		require.NoError(p.t, err, "%s", out)
	}
}

func killedAtRandomMoments(p *program, times, apart int) {
	t := p.t
	t.Helper()
	for i := range times {
		before := p.snapshot()
		dir := fmt.Sprintf("r%d", i)
		c := p.as("tivset", nil, install("willowbench", "lockside.localhost/"+dir)...)
		require.NoError(t, c.Start())
		time.Sleep(time.Duration(10+i*apart) * time.Millisecond)
		_ = c.Process.Kill()
		if c.Wait() == nil {
			continue // it was faster
		}
		p.afterCrash(before, dir, fmt.Sprintf("killed after %d ms", 10+i*apart))
	}
}

// Ctrl-C half way undoes what was begun.
func TestInterruptedByHand(t *testing.T) {
	p := newProgram(t)
	before := p.snapshot()
	c := p.as("tivset-minding", nil, install("inkreach", "lockside.localhost/journal")...)
	p.demo.Standin.Database.OnStatement(func(s string) {
		if strings.Contains(s, "CREATE TABLE") {
			_ = c.Process.Signal(syscall.SIGINT)
			time.Sleep(200 * time.Millisecond)
		}
	})
	var text bytes.Buffer
	c.Stderr = &text
	require.Error(t, c.Run())
	assert.Equal(t, 1, c.ProcessState.ExitCode())
	assert.Contains(t, text.String(), "interrupted")
	assert.Contains(t, text.String(), "the account is as it was")
	require.Equal(t, before, p.snapshot())
}

// While it runs, no argument of any process holds a password.
func TestNoSecretInArguments(t *testing.T) {
	p := newProgram(t)
	const mine = "Kranich-Teekanne-74-Ufer"
	file := filepath.Join(t.TempDir(), "password")
	require.NoError(t, os.WriteFile(file, []byte(mine+"\n"), 0o600))
	c := p.as("tivset", nil, install("willowbench", "lockside.localhost/forum", "-a", "admin.password=@"+file)...)
	looked := 0
	p.demo.Standin.Database.OnStatement(func(string) {
		lines, _ := filepath.Glob("/proc/[0-9]*/cmdline")
		for _, name := range lines {
			text, _ := os.ReadFile(name)
			if strings.Contains(string(text), mine) {
				t.Errorf("%s holds the password", name)
			}
		}
		looked++
	})
	out, err := c.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.NotContains(t, string(out), mine)
	assert.Greater(t, looked, 5)
	var shown struct{ Admin struct{ Password string } }
	p.json(&shown, "reveal", "forum")
	assert.Equal(t, mine, shown.Admin.Password)
}

// Whoever reads what the program says goes away in the middle of a job, as head
// does: the job goes on to its end.
func TestNobodyListensAnyMore(t *testing.T) {
	p := newProgram(t)
	for n, listening := range []string{"nobody", "for a moment"} {
		read, write, err := os.Pipe()
		require.NoError(t, err)
		c := p.as("tivset-minding", nil, install("inkreach", fmt.Sprintf("lockside.localhost/journal%d", n))...)
		c.Stdout, c.Stderr = write, write
		require.NoError(t, c.Start())
		require.NoError(t, write.Close())
		if listening != "nobody" {
			_, err := read.Read(make([]byte, 1))
			require.NoError(t, err)
		}
		require.NoError(t, read.Close())
		require.NoError(t, c.Wait(), listening)
	}
	var sites []struct{ Health string }
	p.json(&sites, "sites", "--json")
	require.Len(t, sites, 2)
	for _, s := range sites {
		assert.Equal(t, "good", s.Health)
	}
}
