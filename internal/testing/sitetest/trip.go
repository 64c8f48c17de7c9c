package sitetest

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"slices"
	"strings"
	"sync"
	"syscall"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/local"
)

// ErrTrip is the error of a call that was made to fail.
var ErrTrip = errors.New("made to fail by the test")

// FaultInjector counts the calls to files, databases and the web, and makes some fail.
type FaultInjector struct {
	mu     sync.Mutex
	from   int // the first call that fails, 0 for none
	to     int // the last
	calls  int
	noted  int      // of them, to the records
	Failed string   // the call that failed last
	Full   bool     // the disk is full: nothing can be written
	on     []string // calls of these names fail
	keeps  string   // what is below a folder whose name holds this cannot be taken away
	dies   string   // from the n-th call of this name on all calls fail …
	nth    int      // … 0 once they do
}

// Dies makes all calls fail from the n-th on whose name holds a text, as when the machine or
// its line dies there; Arm(0, 0) ends that.
func (t *FaultInjector) Dies(what string, n int) {
	t.Arm(0, 0)
	t.mu.Lock()
	defer t.mu.Unlock()
	t.dies, t.nth = what, n
}

// FailOn makes every call of these names fail; without one it ends that.
func (t *FaultInjector) FailOn(names ...string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.on = names
}

// Keeps has the host refuse to take folders away whose names hold a text, as it
// does where something in them belongs to another user; "" ends that.
func (t *FaultInjector) Keeps(what string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.keeps = what
}

func (t *FaultInjector) kept(name string) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.keeps == "" || !strings.Contains(name, t.keeps) {
		return nil
	}
	return &fs.PathError{Op: "remove", Path: name, Err: fs.ErrPermission}
}

// Arm makes the calls from the n-th to the m-th fail, counted from now; 0
// disarms.
func (t *FaultInjector) Arm(from, to int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.from, t.to, t.calls, t.noted, t.Failed, t.dies = from, to, 0, 0, "", ""
}

// Calls says how many calls there were since Arm.
func (t *FaultInjector) Calls() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.calls
}

// Reached says how many of them were to an account, and not only to the records.
func (t *FaultInjector) Reached() int {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.calls - t.noted
}

// Fails counts a call and says whether it is to fail.
func (t *FaultInjector) Fails(what string) bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.calls++
	if of, _, _ := strings.Cut(what, ", "); slices.Contains([]string{"ledger", "journal", "vault"}, of) {
		t.noted++
	}
	if t.dies != "" && t.nth > 0 && strings.Contains(what, t.dies) {
		t.nth--
	}
	if t.dies != "" && t.nth == 0 {
		t.Failed = what
		return true
	}
	if t.from > 0 && t.calls >= t.from && t.calls <= t.to || slices.Contains(t.on, what) {
		t.Failed = what
		return true
	}
	return false
}

func (t *FaultInjector) err(what string) error {
	if t.Fails(what) {
		return ErrTrip
	}
	return nil
}

// filesWrap makes calls to files fail, before or in the middle of their work.
type filesWrap struct {
	*local.FS
	trip *FaultInjector
}

func (f *filesWrap) Stat(ctx context.Context, name string) (files.Info, error) {
	if err := f.trip.err("stat " + name); err != nil {
		return files.Info{}, err
	}
	return f.FS.Stat(ctx, name)
}

func (f *filesWrap) List(ctx context.Context, name string) ([]files.Info, error) {
	if err := f.trip.err("list " + name); err != nil {
		return nil, err
	}
	return f.FS.List(ctx, name)
}

func (f *filesWrap) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	if err := f.trip.err("open " + name); err != nil {
		return nil, err
	}
	return f.FS.Open(ctx, name)
}

func (f *filesWrap) Create(ctx context.Context, name string, mode fs.FileMode) (io.WriteCloser, error) {
	if err := f.trip.err("create " + name); err != nil {
		return nil, err
	}
	w, err := f.FS.Create(ctx, name, mode)
	if err != nil {
		return nil, err
	}
	return &writerWrap{w, f.trip, name}, nil
}

func (f *filesWrap) Mkdir(ctx context.Context, name string, mode fs.FileMode) error {
	if err := f.trip.err("mkdir " + name); err != nil {
		return err
	}
	return f.FS.Mkdir(ctx, name, mode)
}

func (f *filesWrap) Rename(ctx context.Context, from, to string) error {
	if err := f.trip.err("rename " + to); err != nil {
		return err
	}
	return f.FS.Rename(ctx, from, to)
}

func (f *filesWrap) Chmod(ctx context.Context, name string, mode fs.FileMode) error {
	if err := f.trip.err("chmod " + name); err != nil {
		return err
	}
	return f.FS.Chmod(ctx, name, mode)
}

func (f *filesWrap) Remove(ctx context.Context, name string) error {
	if err := f.trip.err("remove " + name); err != nil {
		return err
	}
	return f.FS.Remove(ctx, name)
}

func (f *filesWrap) RemoveAll(ctx context.Context, name string) error {
	if err := f.trip.err("remove all " + name); err != nil {
		return err
	}
	if _, err := f.FS.Stat(ctx, name); err == nil {
		if err := f.trip.kept(name); err != nil {
			return err
		}
	}
	return f.FS.RemoveAll(ctx, name)
}

// writerWrap writes half of what it was given when it is to fail.
type writerWrap struct {
	io.WriteCloser
	trip *FaultInjector
	name string
}

func (w *writerWrap) Write(p []byte) (int, error) {
	if w.trip.Full {
		return 0, syscall.ENOSPC
	}
	if err := w.trip.err("write " + w.name); err != nil {
		n, _ := w.WriteCloser.Write(p[:len(p)/2])
		return n, err
	}
	return w.WriteCloser.Write(p)
}

// serverWrap makes calls to a database server fail, before and after their
// effect.
type serverWrap struct {
	database.Server
	trip *FaultInjector
}

func (s *serverWrap) both(what string, do func() error) error {
	if err := s.trip.err("before " + what); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	return s.trip.err("after " + what)
}

func (s *serverWrap) CreateDatabase(ctx context.Context, name string) error {
	return s.both("create database", func() error { return s.Server.CreateDatabase(ctx, name) })
}

func (s *serverWrap) DropDatabase(ctx context.Context, name string) error {
	return s.both("drop database", func() error { return s.Server.DropDatabase(ctx, name) })
}

func (s *serverWrap) CreateUser(ctx context.Context, u database.User) error {
	return s.both("create user", func() error { return s.Server.CreateUser(ctx, u) })
}

func (s *serverWrap) DropUser(ctx context.Context, u database.User) error {
	return s.both("drop user", func() error { return s.Server.DropUser(ctx, u) })
}

// sessionWrap makes calls to a site's database fail.
type sessionWrap struct {
	database.Session
	trip *FaultInjector
}

func (s *sessionWrap) Run(ctx context.Context, script io.Reader, o database.ScriptOptions) (int, error) {
	if err := s.trip.err("before script"); err != nil {
		return 0, err
	}
	n, err := s.Session.Run(ctx, script, o)
	if err != nil {
		return n, err
	}
	return n, s.trip.err("after script")
}

func (s *sessionWrap) Exec(ctx context.Context, statement string, values map[string]string) error {
	if err := s.trip.err("statement"); err != nil {
		return err
	}
	return s.Session.Exec(ctx, statement, values)
}

func (s *sessionWrap) Value(ctx context.Context, query string, values map[string]string) (string, error) {
	if err := s.trip.err("query"); err != nil {
		return "", err
	}
	return s.Session.Value(ctx, query, values)
}

// both makes a call fail before or after its effect.
func (s *sessionWrap) both(what string, do func() error) error {
	if err := s.trip.err("before " + what); err != nil {
		return err
	}
	if err := do(); err != nil {
		return err
	}
	return s.trip.err("after " + what)
}

func (s *sessionWrap) Tables(ctx context.Context) ([]string, error) {
	if err := s.trip.err("tables"); err != nil {
		return nil, err
	}
	return s.Session.Tables(ctx)
}

func (s *sessionWrap) DropTables(ctx context.Context, names []string) error {
	return s.both("drop tables", func() error { return s.Session.DropTables(ctx, names) })
}

func (s *sessionWrap) Dump(ctx context.Context, into io.Writer, only func(string) bool) error {
	return s.both("dump", func() error { return s.Session.Dump(ctx, into, only) })
}

func (s *sessionWrap) Marks(ctx context.Context, only func(string) bool) (map[string]string, error) {
	if err := s.trip.err("marks"); err != nil {
		return nil, err
	}
	if m, can := s.Session.(database.Marker); can {
		return m.Marks(ctx, only)
	}
	return nil, errors.ErrUnsupported
}

func (s *sessionWrap) Empty(ctx context.Context, only func(string) bool) error {
	return s.both("empty", func() error { return s.Session.Empty(ctx, only) })
}
