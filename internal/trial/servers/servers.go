// Package servers starts real servers to try things on: private throw-away instances
// on 127.0.0.1 with their own data folder and a free port, which end with the stage
// that they were started for. It never touches a system instance.
package servers

import (
	"bytes"
	"cmp"
	"flag"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"sync"
	"time"
)

// Stage is whoever needs servers: a test, or the trial of a kit. Fatal and Skip do not
// return.
type Stage interface {
	Helper()
	Cleanup(func())
	Failed() bool
	Logf(format string, args ...any)
	Fatal(args ...any)
	Fatalf(format string, args ...any)
	Skip(args ...any)
}

// quick says whether this is the quick loop of the tests (go test -short).
func quick() bool {
	f := flag.Lookup("test.short")
	return f != nil && f.Value.String() == "true"
}

// Required is the variable that makes a missing server a failure instead of a
// skipped test.
const Required = "TIVSET_TEST_REQUIRE_SERVERS"

// Need finds programs, also where only root has them on the path. When one is
// missing the test is skipped, or fails where servers are required. In the quick
// loop (go test -short) no server is started.
func Need(t Stage, names ...string) []string {
	t.Helper()
	if quick() {
		t.Skip("real servers are for make test")
	}
	var paths []string
	for _, name := range names {
		path, err := exec.LookPath(name)
		if err != nil {
			path = filepath.Join("/usr/sbin", name)
			_, err = os.Stat(path)
		}
		if err != nil {
			Missing(t, name+" is not installed; on Debian it is in the package "+cmp.Or(packages[name], name))
		}
		paths = append(paths, path)
	}
	return paths
}

// packages are those of programs that are called otherwise.
var packages = map[string]string{"mariadbd": "mariadb-server", "mariadb": "mariadb-client", "php-fpm8.2": "php-fpm",
	"proftpd": "proftpd-core", "sshd": "openssh-server", "dovecot": "dovecot-imapd", "apt-get": "apt"}

// Missing skips the test, or fails it where servers are required.
func Missing(t Stage, why string) {
	t.Helper()
	if os.Getenv(Required) != "" {
		t.Fatal(why)
	}
	t.Skip(why)
}

// Slow marks a test that takes too long for the quick loop.
func Slow(t Stage) {
	t.Helper()
	if quick() {
		t.Skip("too long for the quick loop: make test runs it")
	}
}

// Sweep is how far apart the calls are that a test makes fail, one after the
// other: usual, or 1 (every one of them) in make sweep.
func Sweep(usual int) int {
	if os.Getenv("TIVSET_SWEEP") == "whole" {
		return 1
	}
	return usual
}

// folder makes a folder with a short path, for sockets have short names only.
func folder(t Stage) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "tvs")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// run runs a program to its end.
func run(t Stage, program string, args ...string) {
	t.Helper()
	if out, err := exec.Command(program, args...).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", program, err, out)
	}
}

// start starts a server that ends with the test.
func start(t Stage, program string, args ...string) *bytes.Buffer {
	t.Helper()
	var log bytes.Buffer
	c := exec.Command(program, args...)
	c.Stdout, c.Stderr = &log, &log
	c.SysProcAttr = endsWithUs()
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		end(c.Process, false)
		gone := make(chan struct{})
		go func() { _ = c.Wait(); close(gone) }()
		select {
		case <-gone:
		case <-time.After(5 * time.Second):
			end(c.Process, true)
			<-gone
		}
	})
	return &log
}

// lastingFolder makes a folder as folder does, which goes with the server that
// last starts in it.
func lastingFolder(t Stage) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "tvs")
	if err != nil {
		t.Fatal(err)
	}
	return dir
}

// lasting are the pipes whose ends at this side keep servers alive.
var lasting struct {
	sync.Mutex
	pipes []io.WriteCloser
}

// last starts a server that several tests use, one after the other. It ends, and
// its folder goes, when this process ends in whatever way: a shell waits for the
// end of a pipe that only this process has open.
func last(t Stage, dir, program string, args ...string) {
	t.Helper()
	const watch = `dir=$1; shift; "$@" >"$dir/log" 2>&1 & cat >/dev/null; kill $!; wait $!; rm -rf "$dir"`
	c := exec.Command("sh", append([]string{"-c", watch, "sh", dir, program}, args...)...)
	c.SysProcAttr = ownGroup() // an interrupt is for the tests alone
	pipe, err := c.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	lasting.Lock()
	defer lasting.Unlock()
	lasting.pipes = append(lasting.pipes, pipe)
}

// pool lends servers to tests, so that not every test has to wait for its own.
type pool struct {
	mu   sync.Mutex
	idle []Database
}

// take lends an idle server until the end of the test, or a new one. One that
// cannot be emptied afterwards is not lent again.
func (p *pool) take(t Stage, start func(Stage) Database, empty func(Database, Stage) error) Database {
	t.Helper()
	d, idle := p.last()
	if !idle {
		d = start(t) // side by side with others
	}
	t.Cleanup(func() {
		if empty(d, t) == nil {
			p.mu.Lock()
			defer p.mu.Unlock()
			p.idle = append(p.idle, d)
		}
	})
	return d
}

// last takes an idle server.
func (p *pool) last() (d Database, idle bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	n := len(p.idle)
	if n == 0 {
		return d, false
	}
	d, p.idle = p.idle[n-1], p.idle[:n-1]
	return d, true
}

// await tries until ready gives nil.
func await(t Stage, what string, ready func() error) {
	t.Helper()
	var err error
	for end := time.Now().Add(30 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if err = ready(); err == nil {
			return
		}
	}
	t.Fatalf("%s did not start: %v", what, err)
}

func loopback(port int) string { return net.JoinHostPort("127.0.0.1", strconv.Itoa(port)) }
