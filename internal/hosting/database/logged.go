package database

import (
	"context"
	"errors"
	"io"

	"tivset/internal/logs"
)

// Logged is a server of which the log of a context hears what it is asked for: names, and never a
// password or a statement.
func Logged(s Server) Server { return &loggedServer{s} }

type loggedServer struct{ Server }

func (l *loggedServer) MayCreate(ctx context.Context) (err error) {
	defer logs.Asked(ctx, "database server", "may create")(&err)
	return l.Server.MayCreate(ctx)
}

func (l *loggedServer) Databases(ctx context.Context) (out []string, err error) {
	defer logs.Asked(ctx, "database server", "list databases")(&err)
	return l.Server.Databases(ctx)
}

func (l *loggedServer) Users(ctx context.Context) (out []string, err error) {
	defer logs.Asked(ctx, "database server", "list users")(&err)
	return l.Server.Users(ctx)
}

func (l *loggedServer) CreateDatabase(ctx context.Context, name string) (err error) {
	defer logs.Asked(ctx, "database server", "create database", name)(&err)
	return l.Server.CreateDatabase(ctx, name)
}

func (l *loggedServer) DropDatabase(ctx context.Context, name string) (err error) {
	defer logs.Asked(ctx, "database server", "drop database", name)(&err)
	return l.Server.DropDatabase(ctx, name)
}

func (l *loggedServer) CreateUser(ctx context.Context, u User) (err error) {
	defer logs.Asked(ctx, "database server", "create user", u.Name, u.Database)(&err)
	return l.Server.CreateUser(ctx, u)
}

func (l *loggedServer) DropUser(ctx context.Context, u User) (err error) {
	defer logs.Asked(ctx, "database server", "drop user", u.Name)(&err)
	return l.Server.DropUser(ctx, u)
}

// LoggedSession is a session of which the log of a context hears the same.
func LoggedSession(s Session) Session { return &loggedSession{s} }

type loggedSession struct{ Session }

func (l *loggedSession) Run(ctx context.Context, script io.Reader, o ScriptOptions) (n int, err error) {
	defer logs.Asked(ctx, "database", "run a script")(&err)
	return l.Session.Run(ctx, script, o)
}

func (l *loggedSession) Exec(ctx context.Context, statement string, values map[string]string) (err error) {
	defer logs.Asked(ctx, "database", "run a statement")(&err)
	return l.Session.Exec(ctx, statement, values)
}

func (l *loggedSession) Value(ctx context.Context, query string, values map[string]string) (out string, err error) {
	defer logs.Asked(ctx, "database", "look a value up")(&err)
	return l.Session.Value(ctx, query, values)
}

func (l *loggedSession) Tables(ctx context.Context) (out []string, err error) {
	defer logs.Asked(ctx, "database", "list tables")(&err)
	return l.Session.Tables(ctx)
}

func (l *loggedSession) DropTables(ctx context.Context, names []string) (err error) {
	defer logs.Asked(ctx, "database", "drop tables", names...)(&err)
	return l.Session.DropTables(ctx, names)
}

func (l *loggedSession) Dump(ctx context.Context, into io.Writer, only func(string) bool) (err error) {
	defer logs.Asked(ctx, "database", "dump")(&err)
	return l.Session.Dump(ctx, into, only)
}

func (l *loggedSession) Empty(ctx context.Context, only func(string) bool) (err error) {
	defer logs.Asked(ctx, "database", "empty")(&err)
	return l.Session.Empty(ctx, only)
}

// Marks implements Marker.
func (l *loggedSession) Marks(ctx context.Context, only func(string) bool) (out map[string]string, err error) {
	defer logs.Asked(ctx, "database", "look what changed")(&err)
	if m, can := l.Session.(Marker); can {
		return m.Marks(ctx, only)
	}
	return nil, errors.ErrUnsupported
}
