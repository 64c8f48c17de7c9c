// Package line cuts the line to a server, for tests of what is done then.
package line

import (
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Line leads to a server, and can be cut as networks are: nothing comes through any more, and
// nobody is told.
type Line struct {
	Address string

	mu  sync.Mutex
	cut bool
}

// New makes a line to an address.
func New(t *testing.T, to string) *Line {
	t.Helper()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() })
	l := &Line{Address: listener.Addr().String()}
	go func() {
		for {
			here, err := listener.Accept()
			if err != nil {
				return
			}
			there, err := net.Dial("tcp", to)
			if err != nil {
				here.Close()
				continue
			}
			go l.carry(here, there)
			go l.carry(there, here)
		}
	}()
	return l
}

// Cut cuts the line, or mends it. What was under way while it was cut is lost.
func (l *Line) Cut(cut bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.cut = cut
}

func (l *Line) isCut() bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.cut
}

func (l *Line) carry(from, to net.Conn) {
	defer to.Close()
	defer from.Close()
	buffer, lost := make([]byte, 1<<16), false
	for {
		_ = from.SetReadDeadline(time.Now().Add(20 * time.Millisecond))
		n, err := from.Read(buffer)
		timeout, is := err.(net.Error)
		over := err != nil && (!is || !timeout.Timeout())
		if lost = lost || l.isCut(); lost {
			if !l.isCut() { // mended: what was lost is missing, and so the connection ends
				return
			}
			if over { // of which the other side hears nothing
				time.Sleep(20 * time.Millisecond)
			}
			continue
		}
		if n > 0 {
			if _, err := to.Write(buffer[:n]); err != nil {
				return
			}
		}
		if over {
			return
		}
	}
}
