// Package mailbox is the stand-in's mail server: it takes every mail over SMTP
// (RFC 5321) and keeps it as an .eml file in a folder. It sends nothing on.
package mailbox

import (
	"crypto/rand"
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
)

// Server is a running mail server.
type Server struct {
	smtp     *smtp.Server
	listener net.Listener
}

// Start starts a server at address that keeps its mails in folder.
func Start(folder, address string) (*Server, error) {
	return start(backend{folder: folder}, address, nil)
}

// StartLocked starts one that takes mail from one user only, who signs in over TLS (RFC 3207, RFC 4954).
func StartLocked(folder, address string, certificate tls.Certificate, user, password string) (*Server, error) {
	return start(backend{folder, user, password}, address, &tls.Config{Certificates: []tls.Certificate{certificate},
		MinVersion: tls.VersionTLS12})
}

func start(b backend, address string, secured *tls.Config) (*Server, error) {
	if err := os.MkdirAll(b.folder, 0o700); err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("start the mail server: %w", err)
	}
	s := smtp.NewServer(b)
	s.TLSConfig = secured
	s.Domain = "localhost"
	s.ErrorLog = log.New(io.Discard, "", 0) // clients may hang up when they like
	s.MaxMessageBytes = 10 << 20
	s.ReadTimeout, s.WriteTimeout = time.Minute, time.Minute
	go func() { _ = s.Serve(l) }()
	return &Server{s, l}, nil
}

// Address gives host:port.
func (s *Server) Address() string { return s.listener.Addr().String() }

// Close ends the server.
func (s *Server) Close() error { return s.smtp.Close() }

type backend struct{ folder, user, password string }

// NewSession implements smtp.Backend.
func (b backend) NewSession(*smtp.Conn) (smtp.Session, error) {
	return &session{backend: b}, nil
}

type session struct {
	backend
	in bool // somebody has signed in
}

// AuthMechanisms implements smtp.AuthSession.
func (s *session) AuthMechanisms() []string {
	if s.user == "" {
		return nil
	}
	return []string{sasl.Plain}
}

// Auth implements smtp.AuthSession.
func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if s.in = user == s.user && password == s.password; !s.in {
			return smtp.ErrAuthFailed
		}
		return nil
	}), nil
}

func (s *session) Mail(string, *smtp.MailOptions) error {
	if s.user != "" && !s.in {
		return smtp.ErrAuthRequired
	}
	return nil
}
func (s *session) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (s *session) Reset()                               {}
func (s *session) Logout() error                        { return nil }

// Data keeps one mail: written under another name first, so that whoever
// watches the folder never sees half of one.
func (s *session) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	name := time.Now().UTC().Format("20060102-150405-") + rand.Text()[:6]
	temporary := filepath.Join(s.folder, "."+name)
	if err := os.WriteFile(temporary, text, 0o600); err != nil {
		return err
	}
	return os.Rename(temporary, filepath.Join(s.folder, name+".eml"))
}
