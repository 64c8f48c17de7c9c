package hosting

import (
	"context"
	"io"

	"tivset/internal/hosting/database"
)

// LazySession signs in when it is first used: the steps are listed before the
// database is there.
type LazySession struct {
	Open    func(context.Context) (database.Session, error)
	session database.Session
}

var _ database.Session = (*LazySession)(nil)

func (l *LazySession) get(ctx context.Context) (database.Session, error) {
	if l.session != nil {
		return l.session, nil
	}
	s, err := l.Open(ctx)
	if err == nil {
		l.session = s
	}
	return s, err
}

func (l *LazySession) Run(ctx context.Context, script io.Reader, o database.ScriptOptions) (int, error) {
	s, err := l.get(ctx)
	if err != nil {
		return 0, err
	}
	return s.Run(ctx, script, o)
}

func (l *LazySession) Exec(ctx context.Context, statement string, values map[string]string) error {
	s, err := l.get(ctx)
	if err != nil {
		return err
	}
	return s.Exec(ctx, statement, values)
}

func (l *LazySession) Value(ctx context.Context, query string, values map[string]string) (string, error) {
	s, err := l.get(ctx)
	if err != nil {
		return "", err
	}
	return s.Value(ctx, query, values)
}

func (l *LazySession) Tables(ctx context.Context) ([]string, error) {
	s, err := l.get(ctx)
	if err != nil {
		return nil, err
	}
	return s.Tables(ctx)
}

func (l *LazySession) DropTables(ctx context.Context, names []string) error {
	s, err := l.get(ctx)
	if err != nil {
		return err
	}
	return s.DropTables(ctx, names)
}

func (l *LazySession) Version(ctx context.Context) (engine, version string, err error) {
	s, err := l.get(ctx)
	if err != nil {
		return "", "", err
	}
	return s.Version(ctx)
}

func (l *LazySession) Lacking(ctx context.Context) ([]string, error) {
	s, err := l.get(ctx)
	if err != nil {
		return nil, err
	}
	return s.Lacking(ctx)
}

func (l *LazySession) Dump(ctx context.Context, into io.Writer, only func(string) bool) error {
	s, err := l.get(ctx)
	if err != nil {
		return err
	}
	return s.Dump(ctx, into, only)
}

func (l *LazySession) Empty(ctx context.Context, only func(string) bool) error {
	s, err := l.get(ctx)
	if err != nil {
		return err
	}
	return s.Empty(ctx, only)
}

func (l *LazySession) Close() error {
	if l.session == nil {
		return nil
	}
	s := l.session
	l.session = nil // the next call signs in again
	return s.Close()
}
