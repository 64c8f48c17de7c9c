// Package mysqld is the stand-in's database server: the MySQL client/server
// protocol in front of SQLite files, one a database.
//
// It knows users, databases and grants as a hosting's server does, and as much
// SQL as the demo apps need. What it does not know it refuses with an error
// that names the statement; it never pretends. The protocol is described in
// the MariaDB manual, "Client/Server Protocol".
package mysqld

import (
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"sync"
	"time"
)

// Version is what the server says it is.
const Version = "10.11.0-MariaDB-standin"

// Server is a running database server.
type Server struct {
	folder  string
	store   *store
	address string

	mu        sync.Mutex
	listener  net.Listener
	sessions  map[net.Conn]bool
	closed    bool
	statement func(string)
	nextID    uint32
	wait      sync.WaitGroup
}

// Start starts a server with its data in folder, at address ("127.0.0.1:0" for
// a free port). Root may do everything.
func Start(folder, address, rootPassword string) (*Server, error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	st, err := openStore(filepath.Join(folder, "system.db"), rootPassword)
	if err != nil {
		return nil, err
	}
	s := &Server{folder: folder, store: st, sessions: map[net.Conn]bool{}}
	if err := s.listen(address); err != nil {
		return nil, errors.Join(err, st.close())
	}
	s.address = s.listener.Addr().String()
	return s, nil
}

// Address gives host:port.
func (s *Server) Address() string { return s.address }

// OnStatement has a function called with every statement before it is run, so
// that a demo or a test can interfere at a certain moment.
func (s *Server) OnStatement(f func(statement string)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.statement = f
}

func (s *Server) listen(address string) error {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return fmt.Errorf("start the database server: %w", err)
	}
	s.mu.Lock()
	s.listener = l
	s.mu.Unlock()
	s.wait.Add(1)
	go func() {
		defer s.wait.Done()
		s.accept(l)
	}()
	return nil
}

func (s *Server) accept(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		s.sessions[c] = true
		s.nextID++
		id := s.nextID
		s.mu.Unlock()
		s.wait.Add(1)
		go func() {
			defer s.wait.Done()
			newSession(s, c, id).serve()
			s.mu.Lock()
			delete(s.sessions, c)
			s.mu.Unlock()
		}()
	}
}

// Drop cuts every connection and takes no new ones, as when the server dies.
func (s *Server) Drop() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.listener != nil {
		_ = s.listener.Close()
	}
	for c := range s.sessions {
		_ = c.Close()
	}
}

// Return takes connections again at the same address.
func (s *Server) Return() error {
	s.mu.Lock()
	closed := s.closed
	s.mu.Unlock()
	if closed {
		return net.ErrClosed
	}
	return s.listen(s.address)
}

// Outage drops the server and has it return after a while.
func (s *Server) Outage(d time.Duration) {
	s.Drop()
	time.AfterFunc(d, func() { _ = s.Return() })
}

// Close ends the server.
func (s *Server) Close() error {
	s.mu.Lock()
	s.closed = true
	s.mu.Unlock()
	s.Drop()
	s.wait.Wait()
	return s.store.close()
}

// size is how many bytes a database's file has.
func (s *Server) size(database string) int64 {
	info, err := os.Stat(s.file(database))
	if err != nil {
		return 0
	}
	return info.Size()
}

func (s *Server) file(database string) string {
	return filepath.Join(s.folder, "database-"+database+".db")
}
