//go:build unix

package e2e

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// batched is a request of a batch.
type batched struct {
	Number int
	Batch  int
	State  string
	At     string
}

// What is put on the queue together has one number: it is cancelled, followed and tried again by that, and one mail
// says how all of it ended, what failed first.
func TestBatchesByTheirNumber(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	course := p.file("course.csv", "app,at,title,seats\ninkreach,lockside.localhost/a,A,\n"+
		"slateroom,slate-school.localhost/class,Class,4000\ninkreach,lockside.localhost/b,B,\n")
	put := func() (all []batched) {
		t.Helper()
		p.of(&all, p.demo.Folder, "install", "--table", course, "-a", "admin.email=w@lockside.localhost", "-a",
			"licence=accept", "--queue", "--yes", "--tell", "w@lockside.localhost")
		require.Len(t, all, 3)
		return all
	}
	first := put()
	var listed []batched
	p.of(&listed, p.demo.Folder, "queue", "list")
	number := listed[0].Batch
	require.Positive(t, number)
	var cancelled []batched
	p.of(&cancelled, p.second, "queue", "cancel", fmt.Sprint(number))
	require.Len(t, cancelled, 3)
	for _, one := range first {
		assert.Equal(t, "cancelled", p.ends(one.Number).State)
	}
	put()
	p.of(&listed, p.demo.Folder, "queue", "list")
	number = listed[0].Batch
	p.works(p.second, "--parallel", "2")
	c := p.as("tivset", nil, "jobs", "--follow", fmt.Sprint(number))
	followed, err := c.CombinedOutput()
	require.Error(t, err, "one failed")
	assert.Equal(t, 1, c.ProcessState.ExitCode())
	text := string(followed)
	assert.Contains(t, text, "3 of 3")
	assert.Contains(t, text, fmt.Sprintf("Number %d: 2 of 3 done.", number))
	bad, good := strings.Index(text, "slate-school.localhost"), strings.LastIndex(text, "lockside.localhost")
	assert.Less(t, bad, good, "failures first: %s", text)
	require.Eventually(t, func() bool { return strings.Contains(p.mailed(), "3 requests: 1 failed") }, 20*time.Second,
		100*time.Millisecond)
	assert.Equal(t, 2, strings.Count(p.mailed(), "Subject: Number"), "one of each")
	assert.Contains(t, p.mailed(), "3 requests: 3 cancelled")

	var again []batched
	p.of(&again, p.demo.Folder, "queue", "retry", fmt.Sprint(number))
	require.Len(t, again, 1, "only what failed")
	assert.Contains(t, again[0].At, "slate-school.localhost")
	assert.Equal(t, "failed", p.ends(again[0].Number).State)
}

// A machine whose clock is ten minutes ahead puts something on the queue, and another such one works: nothing waits for
// the clock, and nobody is taken for dead.
func TestWrongClocks(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	p.must(p.demo.Folder, append(install("inkreach", "lockside.localhost/a"), "--quiet")...)
	ahead := func(home string, args ...string) (out string, ended func()) {
		c := p.as("tivset-later", []string{"TIVSET_HOME=" + home, "LATER=10m"}, args...)
		if args[0] != "worker" {
			text, err := c.CombinedOutput()
			require.NoError(t, err, string(text))
			return string(text), nil
		}
		require.NoError(t, c.Start())
		return "", func() {
			_ = c.Process.Kill()
			_ = c.Wait()
		}
	}
	began := time.Now()
	for n, at := range []string{p.demo.Folder, p.second} {
		if n == 0 {
			p.works(p.demo.Folder)
		} else {
			_, end := ahead(p.second, "worker", "--lease", "3s")
			defer end()
		}
		ahead(at, "backup", "a", "--queue", "--yes")
		assert.Equal(t, "done", p.ends(n+1).State)
	}
	assert.Less(t, time.Since(began), time.Minute)
	var workers []struct{ Alive bool }
	p.of(&workers, p.demo.Folder, "queue", "workers")
	require.Len(t, workers, 2)
	for _, w := range workers {
		assert.True(t, w.Alive)
	}
}
