// Package lines listens for the stand-in's servers, and knows which connections
// are open, so that they can be cut off as a bad line does.
package lines

import (
	"net"
	"sync"
)

// Listener is a listening server.
type Listener struct {
	net.Listener
	mu   sync.Mutex
	open map[net.Conn]bool
}

// Listen hands each connection to serve, with how many are open now, and closes
// it when that returns.
func Listen(address string, serve func(line net.Conn, open int)) (*Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, err
	}
	s := &Listener{Listener: l, open: map[net.Conn]bool{}}
	go s.accept(serve)
	return s, nil
}

func (l *Listener) accept(serve func(net.Conn, int)) {
	for {
		line, err := l.Accept()
		if err != nil {
			return
		}
		l.mu.Lock()
		l.open[line] = true
		count := len(l.open)
		l.mu.Unlock()
		go func() {
			defer func() {
				l.mu.Lock()
				delete(l.open, line)
				l.mu.Unlock()
				_ = line.Close()
			}()
			serve(line, count)
		}()
	}
}

// Address is host:port.
func (l *Listener) Address() string { return l.Addr().String() }

// Drop cuts every connection off.
func (l *Listener) Drop() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for line := range l.open {
		_ = line.Close()
	}
}

// Close ends the server and its connections.
func (l *Listener) Close() error {
	err := l.Listener.Close()
	l.Drop()
	return err
}
