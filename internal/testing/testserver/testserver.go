// Package testserver starts real servers for tests: private throw-away
// instances on 127.0.0.1 with their own data folder and a free port, which end
// with the test. It never touches a system instance.
package testserver

import (
	"bytes"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"syscall"
	"testing"
	"time"
)

// Required is the variable that makes a missing server a failure instead of a
// skipped test.
const Required = "TIVSET_TEST_REQUIRE_SERVERS"

// Need finds programs, also where only root has them on the path. When one is
// missing the test is skipped, or fails where servers are required.
func Need(t testing.TB, names ...string) []string {
	t.Helper()
	var paths []string
	for _, name := range names {
		path, err := exec.LookPath(name)
		if err != nil {
			path = filepath.Join("/usr/sbin", name)
			_, err = os.Stat(path)
		}
		if err != nil {
			Missing(t, name+" is not installed; on Debian “make test” as root installs it")
		}
		paths = append(paths, path)
	}
	return paths
}

// Missing skips the test, or fails it where servers are required.
func Missing(t testing.TB, why string) {
	t.Helper()
	if os.Getenv(Required) != "" {
		t.Fatal(why)
	}
	t.Skip(why)
}

// FreePort finds a port that nobody listens at.
func FreePort(t testing.TB) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}

// folder makes a folder with a short path, for sockets have short names only.
func folder(t testing.TB) string {
	t.Helper()
	dir, err := os.MkdirTemp("", "tvs")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// run runs a program to its end.
func run(t testing.TB, program string, args ...string) {
	t.Helper()
	if out, err := exec.Command(program, args...).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", program, err, out)
	}
}

// start starts a server that ends with the test.
func start(t testing.TB, program string, args ...string) *bytes.Buffer {
	t.Helper()
	var log bytes.Buffer
	c := exec.Command(program, args...)
	c.Stdout, c.Stderr = &log, &log
	c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL, Setpgid: true}
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGTERM)
		gone := make(chan struct{})
		go func() { _ = c.Wait(); close(gone) }()
		select {
		case <-gone:
		case <-time.After(5 * time.Second):
			_ = syscall.Kill(-c.Process.Pid, syscall.SIGKILL)
			<-gone
		}
	})
	return &log
}

// await tries until ready gives nil.
func await(t testing.TB, what string, ready func() error) {
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
