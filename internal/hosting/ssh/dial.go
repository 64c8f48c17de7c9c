package ssh

import (
	"context"
	"net"
	"sync"
	"time"
)

// Dial connects to an address as the server sees it: host and port (tcp) or the
// path of a socket (unix; OpenSSH's PROTOCOL, 2.4).
func (c *Client) Dial(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := c.Conn(ctx)
	if err != nil {
		return nil, err
	}
	line, err := conn.DialContext(ctx, network, address)
	if err != nil {
		return nil, &net.OpError{Op: "dial", Net: network, Err: err}
	}
	return &timed{Conn: line}, nil
}

// timed gives a channel the deadlines that it lacks: when one passes, the
// channel is closed.
type timed struct {
	net.Conn
	mu    sync.Mutex
	timer *time.Timer
}

// SetDeadline implements net.Conn.
func (t *timed) SetDeadline(at time.Time) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.timer != nil {
		t.timer.Stop()
		t.timer = nil
	}
	if !at.IsZero() {
		t.timer = time.AfterFunc(time.Until(at), func() { _ = t.Close() })
	}
	return nil
}

// SetReadDeadline implements net.Conn.
func (t *timed) SetReadDeadline(at time.Time) error { return t.SetDeadline(at) }

// SetWriteDeadline implements net.Conn.
func (t *timed) SetWriteDeadline(at time.Time) error { return t.SetDeadline(at) }

// Close implements net.Conn.
func (t *timed) Close() error {
	_ = t.SetDeadline(time.Time{})
	return t.Conn.Close()
}
