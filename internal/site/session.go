package site

import (
	"context"
	"io"

	"tivset/internal/hosting/database"
)

// lazySession signs in when it is first used: the steps are listed before the
// database is there.
type lazySession struct {
	open    func(context.Context) (database.Session, error)
	session database.Session
}

var _ database.Session = (*lazySession)(nil)

func (l *lazySession) get(ctx context.Context) (database.Session, error) {
	if l.session != nil {
		return l.session, nil
	}
	s, err := l.open(ctx)
	if err == nil {
		l.session = s
	}
	return s, err
}

func (l *lazySession) Run(ctx context.Context, script io.Reader, o database.ScriptOptions) (int, error) {
	s, err := l.get(ctx)
	if err != nil {
		return 0, err
	}
	return s.Run(ctx, script, o)
}

func (l *lazySession) Exec(ctx context.Context, statement string, values map[string]string) error {
	s, err := l.get(ctx)
	if err != nil {
		return err
	}
	return s.Exec(ctx, statement, values)
}

func (l *lazySession) Value(ctx context.Context, query string, values map[string]string) (string, error) {
	s, err := l.get(ctx)
	if err != nil {
		return "", err
	}
	return s.Value(ctx, query, values)
}

func (l *lazySession) Tables(ctx context.Context) ([]string, error) {
	s, err := l.get(ctx)
	if err != nil {
		return nil, err
	}
	return s.Tables(ctx)
}

func (l *lazySession) DropTables(ctx context.Context, names []string) error {
	s, err := l.get(ctx)
	if err != nil {
		return err
	}
	return s.DropTables(ctx, names)
}

func (l *lazySession) Version(ctx context.Context) (engine, version string, err error) {
	s, err := l.get(ctx)
	if err != nil {
		return "", "", err
	}
	return s.Version(ctx)
}

func (l *lazySession) Lacking(ctx context.Context) ([]string, error) {
	s, err := l.get(ctx)
	if err != nil {
		return nil, err
	}
	return s.Lacking(ctx)
}

func (l *lazySession) Dump(ctx context.Context, into io.Writer, only func(string) bool) error {
	s, err := l.get(ctx)
	if err != nil {
		return err
	}
	return s.Dump(ctx, into, only)
}

func (l *lazySession) Empty(ctx context.Context, only func(string) bool) error {
	s, err := l.get(ctx)
	if err != nil {
		return err
	}
	return s.Empty(ctx, only)
}

func (l *lazySession) Close() error {
	if l.session == nil {
		return nil
	}
	s := l.session
	l.session = nil // the next call signs in again
	return s.Close()
}
