// Package helper has databases made by a program of the host's, where nobody
// else may create them. docs/hosting.md describes what is said to it.
package helper

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/bounded"
	"tivset/internal/hosting/database"
)

// patience is for how long one request may take.
const patience = 2 * time.Minute

// longest is how many bytes of an answer are read.
const longest = 1 << 20

// Server makes databases with a program.
type Server struct {
	program []string
	engine  string
	Wait    time.Duration // for one request; two minutes when 0
}

var _ database.Server = (*Server)(nil)

// Of takes the program with its arguments, and the engine that it makes
// databases of.
func Of(program []string, engine string) *Server { return &Server{program: program, engine: engine} }

// Request is what the program is handed on its standard input, as one line.
type Request struct {
	Tivset   int      `json:"tivset"` // the version of this format, 1
	Do       string   `json:"do"`     // look, create-database, drop-database, create-user, drop-user
	Engine   string   `json:"engine"`
	Database string   `json:"database,omitempty"`
	User     string   `json:"user,omitempty"`
	Password string   `json:"password,omitempty"` // with create-user
	Clients  []string `json:"clients,omitempty"`  // the hosts that the user may come from
}

// Answer is what it writes to its standard output, as one JSON value.
type Answer struct {
	OK     bool   `json:"ok"`
	Taken  bool   `json:"taken"`  // with create-…: the name is taken, nothing was done
	Error  string `json:"error"`  // when not ok: what is wrong
	Remedy string `json:"remedy"` // and what to do about it

	Version   string   `json:"version"`   // with look: the server's
	Databases []string `json:"databases"` // and the names that are taken
	Users     []string `json:"users"`
}

// ask runs the program once.
func (s *Server) ask(ctx context.Context, r Request) (Answer, error) {
	var a Answer
	r.Tivset, r.Engine = 1, s.engine
	request, err := json.Marshal(r)
	if err != nil {
		return a, err
	}
	wait := s.Wait
	if wait == 0 {
		wait = patience
	}
	ctx, cancel := context.WithTimeout(ctx, wait)
	defer cancel()
	c := exec.CommandContext(ctx, s.program[0], s.program[1:]...)
	c.WaitDelay = time.Second // for children of it that keep its output open
	c.Stdin = bytes.NewReader(append(request, '\n'))
	said, complained := bounded.New(longest, nil), bounded.Beginning(longest)
	c.Stdout, c.Stderr = said, complained
	err = c.Run()
	if said.Exceeded() {
		return a, s.wrong(r, fmt.Sprintf("answered with more than %d MB", longest>>20), "")
	}
	if err != nil {
		return a, s.failed(ctx, r, err, complained.String())
	}
	decoder := json.NewDecoder(bytes.NewReader(said.Bytes()))
	if err := decoder.Decode(&a); err != nil {
		return a, s.wrong(r, "answered what is no JSON", said.String())
	}
	if _, err := decoder.Token(); !errors.Is(err, io.EOF) {
		return a, s.wrong(r, "answered more than one JSON value", "")
	}
	switch {
	case a.Taken:
		return a, fmt.Errorf("%w: the helper says so", database.ErrTaken)
	case !a.OK && a.Error == "":
		return a, s.wrong(r, "answered neither ok nor an error", "")
	case !a.OK:
		remedy := a.Remedy
		if remedy == "" {
			remedy = "Ask the host."
		}
		return a, fault.New(fault.Failed, "the helper for databases refuses: "+firstLine(a.Error), s.program[0],
			firstLine(remedy))
	}
	return a, nil
}

func (s *Server) failed(ctx context.Context, r Request, err error, complained string) error {
	var exit *exec.ExitError
	switch {
	case errors.Is(ctx.Err(), context.DeadlineExceeded):
		return s.wrong(r, "did not answer in time and was ended", complained)
	case ctx.Err() != nil:
		return ctx.Err()
	case errors.As(err, &exit):
		return s.wrong(r, fmt.Sprintf("ended with exit code %d", exit.ExitCode()), complained)
	}
	return fault.New(fault.Failed, "the helper for databases cannot be run", s.program[0],
		"Correct helper: in the account, or ask the host.").Wrap(err)
}

func (s *Server) wrong(r Request, what, said string) error {
	f := fault.New(fault.Failed, "the helper for databases "+what, s.program[0]+", "+r.Do,
		"Ask the host; docs/hosting.md describes what a helper answers.")
	if line := firstLine(said); line != "" {
		f.Details = []string{"it said: " + line}
	}
	if r.Password != "" { // a helper may repeat what it was told
		for i := range f.Details {
			f.Details[i] = strings.ReplaceAll(f.Details[i], r.Password, "(secret)")
		}
	}
	return f
}

func firstLine(text string) string {
	line, _, _ := strings.Cut(strings.TrimSpace(text), "\n")
	if runes := []rune(line); len(runes) > 200 {
		line = string(runes[:200]) + " …"
	}
	return line
}

// Version implements database.Server.
func (s *Server) Version(ctx context.Context) (engine, version string, err error) {
	a, err := s.ask(ctx, Request{Do: "look"})
	return s.engine, a.Version, err
}

// MayCreate implements database.Server: that it answers is all that can be known.
func (s *Server) MayCreate(ctx context.Context) error {
	_, err := s.ask(ctx, Request{Do: "look"})
	return err
}

// Databases implements database.Server.
func (s *Server) Databases(ctx context.Context) ([]string, error) {
	a, err := s.ask(ctx, Request{Do: "look"})
	return a.Databases, err
}

// Sizes implements database.Server: helpers do not tell.
func (s *Server) Sizes(context.Context) (map[string]int64, error) { return nil, nil }

// Users implements database.Server.
func (s *Server) Users(ctx context.Context) ([]string, error) {
	a, err := s.ask(ctx, Request{Do: "look"})
	return a.Users, err
}

// CreateDatabase implements database.Server.
func (s *Server) CreateDatabase(ctx context.Context, name string) error {
	_, err := s.ask(ctx, Request{Do: "create-database", Database: name})
	return err
}

// DropDatabase implements database.Server.
func (s *Server) DropDatabase(ctx context.Context, name string) error {
	_, err := s.ask(ctx, Request{Do: "drop-database", Database: name})
	return err
}

// CreateUser implements database.Server.
func (s *Server) CreateUser(ctx context.Context, u database.User) error {
	_, err := s.ask(ctx, Request{Do: "create-user", User: u.Name, Password: u.Password.Reveal(), Database: u.Database,
		Clients: u.Clients})
	return err
}

// DropUser implements database.Server.
func (s *Server) DropUser(ctx context.Context, u database.User) error {
	_, err := s.ask(ctx, Request{Do: "drop-user", User: u.Name, Database: u.Database, Clients: u.Clients})
	return err
}

// Close implements database.Server.
func (s *Server) Close() error { return nil }
