// Package sqlite keeps databases in files of the account (SQLite, "Database
// File Format").
//
// The files may be on another machine. So a session works on a copy here; what
// it changed is put in the file's place when it is closed. Nobody else writes
// to the database meanwhile: it is used while a site is set up, and read
// afterwards.
package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
)

// fileMode lets the server's programs of the account's group write too.
const fileMode fs.FileMode = 0o660

// beside are the endings of what SQLite keeps beside a database while it is in
// use.
var beside = []string{"", "-journal", "-wal", "-shm"}

// Server makes databases in a folder of the account.
type Server struct {
	files  files.Closer
	folder string
}

// Session is a site's database.
type Session struct {
	files   files.Closer
	file    string
	dir     string // of the copy
	pool    *sql.DB
	changed bool
}

var (
	_ database.Server  = (*Server)(nil)
	_ database.Session = (*Session)(nil)
)

// Connect takes the folder in which databases are made. The files are closed
// with the server.
func Connect(f files.Closer, folder string) *Server { return &Server{f, folder} }

// Close implements database.Server.
func (s *Server) Close() error { return s.files.Close() }

// Version gives the version of SQLite that is used here; the site's own may be
// another.
func (s *Server) Version(ctx context.Context) (engine, version string, err error) {
	pool, err := empty(ctx)
	if err != nil {
		return "", "", err
	}
	defer pool.Close()
	return versionOf(ctx, pool)
}

func versionOf(ctx context.Context, pool *sql.DB) (engine, version string, err error) {
	err = pool.QueryRowContext(ctx, "SELECT sqlite_version()").Scan(&version)
	return "sqlite", version, err
}

// MayCreate implements database.Server.
func (s *Server) MayCreate(context.Context) error { return nil }

// Databases implements database.Server.
func (s *Server) Databases(ctx context.Context) ([]string, error) {
	all, err := s.files.List(ctx, s.folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []string
	for _, i := range all {
		out = append(out, i.Name)
	}
	return out, err
}

// Sizes implements database.Server.
func (s *Server) Sizes(ctx context.Context) (map[string]int64, error) {
	names, err := s.Databases(ctx)
	out := map[string]int64{}
	for _, name := range names {
		if info, statErr := s.files.Stat(ctx, database.File(s.folder, name)); statErr == nil {
			out[name] = info.Size
		}
	}
	return out, err
}

// Users implements database.Server: there are none.
func (s *Server) Users(context.Context) ([]string, error) { return nil, nil }

// CreateDatabase implements database.Server. Its folder may be there; a file
// may not.
func (s *Server) CreateDatabase(ctx context.Context, name string) error {
	file := database.File(s.folder, name)
	if _, err := files.MkdirAll(ctx, s.files, path.Dir(file), 0o770); err != nil {
		return err
	}
	err := files.Write(ctx, s.files, file, nil, fileMode) // an empty file is an empty database
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%w: %s", database.ErrTaken, file)
	}
	return err
}

// DropDatabase implements database.Server.
func (s *Server) DropDatabase(ctx context.Context, name string) error {
	file := database.File(s.folder, name)
	for _, ending := range beside {
		if err := s.files.Remove(ctx, file+ending); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	for _, dir := range []string{path.Dir(file), s.folder} {
		inside, err := s.files.List(ctx, dir)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		if err == nil && len(inside) == 0 && dir != s.folder {
			_ = s.files.Remove(ctx, dir)
		}
	}
	return nil
}

// CreateUser implements database.Server: whoever reads the file is the user.
func (s *Server) CreateUser(context.Context, database.User) error { return nil }

// DropUser implements database.Server.
func (s *Server) DropUser(context.Context, database.User) error { return nil }

// Open copies a database to work on. The files are closed with the session.
func Open(ctx context.Context, f files.Closer, file string) (*Session, error) {
	s := &Session{files: f, file: file}
	var err error
	if s.dir, err = os.MkdirTemp("", "tivset-data-"); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	if err := s.fetch(ctx); err != nil {
		return nil, errors.Join(err, os.RemoveAll(s.dir), f.Close())
	}
	if s.pool, err = openGuarded(s.copyOf("")); err != nil {
		return nil, errors.Join(err, os.RemoveAll(s.dir), f.Close())
	}
	return s, nil
}

func (s *Session) copyOf(ending string) string { return filepath.Join(s.dir, "copy"+ending) }

func (s *Session) fetch(ctx context.Context) error {
	for _, ending := range beside[:3] {
		from, err := s.files.Open(ctx, s.file+ending)
		if errors.Is(err, fs.ErrNotExist) && ending != "" {
			continue
		}
		if errors.Is(err, fs.ErrNotExist) {
			return fault.New(fault.Failed, "there is no database of this name", s.file, "Check the name.").Wrap(err)
		}
		if err != nil {
			return err
		}
		to, err := os.OpenFile(s.copyOf(ending), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
		if err == nil {
			_, err = io.Copy(to, from)
			err = errors.Join(err, to.Close())
		}
		if err := errors.Join(err, from.Close()); err != nil {
			return err
		}
	}
	return nil
}

// Close puts the changed copy in the file's place.
func (s *Session) Close() error {
	defer os.RemoveAll(s.dir)
	err := s.pool.Close()
	if err == nil && s.changed {
		err = s.store(context.Background())
	}
	return errors.Join(err, s.files.Close())
}

// store writes the copy beside the file, and puts it in its place.
func (s *Session) store(ctx context.Context) error {
	from, err := os.Open(s.copyOf(""))
	if err != nil {
		return err
	}
	defer from.Close()
	part := s.file + ".part"
	if err := s.files.Remove(ctx, part); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	to, err := s.files.Create(ctx, part, fileMode)
	if err != nil {
		return err
	}
	if _, err = io.Copy(to, from); err != nil {
		return errors.Join(err, to.Close())
	}
	if err := to.Close(); err != nil {
		return err
	}
	for _, ending := range beside {
		if err := s.files.Remove(ctx, s.file+ending); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return s.files.Rename(ctx, part, s.file)
}

// Run implements database.Session.
func (s *Session) Run(ctx context.Context, script io.Reader, options database.ScriptOptions) (int, error) {
	count := 0
	err := database.Statements(script, database.SQLite.Syntax, options, func(statement database.Statement) error {
		if err := known(statement.Text); err != nil {
			return fmt.Errorf("line %d: %w", statement.Line, err)
		}
		s.changed = true
		if _, err := s.pool.ExecContext(ctx, statement.Text); err != nil {
			return fmt.Errorf("line %d: %w", statement.Line, explain(err))
		}
		count++
		return nil
	})
	return count, err
}

func explain(err error) error {
	if err == nil || errors.Is(err, context.Canceled) {
		return err
	}
	return fmt.Errorf("SQLite says: %w", err)
}

// Exec implements database.Session.
func (s *Session) Exec(ctx context.Context, statement string, values map[string]string) error {
	text, args, err := database.Positional(statement, database.SQLite.Syntax, values, database.Question)
	if err != nil {
		return err
	}
	s.changed = true
	_, err = s.pool.ExecContext(ctx, text, args...)
	return explain(err)
}

// Value implements database.Session.
func (s *Session) Value(ctx context.Context, query string, values map[string]string) (string, error) {
	text, args, err := database.Positional(query, database.SQLite.Syntax, values, database.Question)
	if err != nil {
		return "", err
	}
	var value any
	err = s.pool.QueryRowContext(ctx, text, args...).Scan(&value)
	if errors.Is(err, sql.ErrNoRows) {
		return "", database.ErrNoRow
	}
	if _, moment := value.(time.Time); moment { // the driver's own reading of a text; without a column's type it leaves it
		err = s.pool.QueryRowContext(ctx, "SELECT ("+text+") || ''", args...).Scan(&value)
	}
	switch v := value.(type) {
	case nil:
		return "", explain(err)
	case []byte:
		return string(v), explain(err)
	}
	return fmt.Sprint(value), explain(err)
}

// Tables implements database.Session.
func (s *Session) Tables(ctx context.Context) ([]string, error) {
	rows, err := s.rows(ctx,
		"SELECT name FROM sqlite_master WHERE type IN ('table', 'view') AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER "+
			"BY name")
	var out []string
	for _, r := range rows {
		out = append(out, r[0])
	}
	return out, err
}

// rows gives all rows as text.
func (s *Session) rows(ctx context.Context, query string) (out [][]string, err error) {
	rows, err := s.pool.QueryContext(ctx, query)
	if err != nil {
		return nil, explain(err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		row := make([]sql.NullString, len(names))
		into := make([]any, len(names))
		for i := range into {
			into[i] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		texts := make([]string, len(names))
		for i := range texts {
			texts[i] = row[i].String
		}
		out = append(out, texts)
	}
	return out, explain(rows.Err())
}

// DropTables implements database.Session.
func (s *Session) DropTables(ctx context.Context, names []string) error {
	there, err := s.rows(ctx, "SELECT name, type FROM sqlite_master WHERE type IN ('table', 'view')")
	if err != nil {
		return err
	}
	for _, t := range there {
		if !slices.Contains(names, t[0]) {
			continue
		}
		s.changed = true
		if _, err := s.pool.ExecContext(ctx, "DROP "+strings.ToUpper(t[1])+" IF EXISTS "+quote(t[0])); err != nil {
			return explain(err)
		}
	}
	return nil
}

// Version implements database.Session.
func (s *Session) Version(ctx context.Context) (engine, version string, err error) {
	return versionOf(ctx, s.pool)
}

// Lacking implements database.Session: whoever has the file may do everything.
func (s *Session) Lacking(context.Context) ([]string, error) { return nil, nil }

func quote(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` }
