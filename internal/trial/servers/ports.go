package servers

import (
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"

	"github.com/gofrs/flock"
)

// Ports of tests lie below those that systems give to outgoing connections
// (Linux, ip_local_port_range: from 32768), so that no connection takes one
// between its choice and its server. Each process of tests has blocks of them
// to itself, by a lock that ends with the process.
const (
	firstPort = 12000
	blockSize = 500
	blocks    = 40
	most      = 4 // blocks of a process: after so many ports it begins again
)

// ports are those of this process.
var ports struct {
	mu        sync.Mutex
	next, end int
	held      []*flock.Flock
	firsts    []int // of the blocks that are held, the one in use last
}

// FreePort finds a port that nobody listens at, and that no other test is given.
func FreePort(t Stage) int { return freeRange(t, 1) }

// freeRange finds so many ports in a row, and gives the first.
func freeRange(t Stage, n int) int {
	t.Helper()
	ports.mu.Lock()
	defer ports.mu.Unlock()
	for range blocks * blockSize {
		if ports.next+n > ports.end {
			nextBlock(t)
		}
		first := ports.next
		ports.next++
		if free(first, n) {
			ports.next = first + n
			return first
		}
	}
	t.Fatal("no free port was found")
	return 0
}

// nextBlock goes on with a block that no other process has.
func nextBlock(t Stage) {
	t.Helper()
	first, ok := 0, len(ports.firsts) < most
	if ok {
		first, ok = takeBlock(t)
	}
	if !ok && len(ports.firsts) == 0 {
		t.Fatal("all blocks of ports are taken by other tests")
	}
	if !ok {
		first, ports.firsts = ports.firsts[0], ports.firsts[1:]
	}
	ports.firsts = append(ports.firsts, first)
	ports.next, ports.end = first, first+blockSize
}

// takeBlock takes a block for as long as the process lasts.
func takeBlock(t Stage) (first int, ok bool) {
	t.Helper()
	dir := filepath.Join(os.TempDir(), fmt.Sprintf("tivset-test-ports-%d", os.Getuid()))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	for n := range blocks {
		lock := flock.New(filepath.Join(dir, fmt.Sprint(n)))
		if mine, err := lock.TryLock(); err == nil && mine {
			ports.held = append(ports.held, lock)
			return firstPort + n*blockSize, true
		}
		_ = lock.Close()
	}
	return 0, false
}

func free(first, n int) bool {
	for port := first; port < first+n; port++ {
		l, err := net.Listen("tcp", loopback(port))
		if err != nil || l.Close() != nil {
			return false
		}
	}
	return true
}
