package helperpage

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
)

// Session is a site's database, worked in by a helper page.
type Session struct {
	page   *Page
	engine string
	syntax database.Syntax
	dsn    string
	login  database.Login
	before []string // what a script has set for those after it
}

var _ database.Session = (*Session)(nil)

// Open signs in to a database as the account's own machine sees it.
func (c *Page) Open(ctx context.Context, engine string, l database.Login) (*Session, error) {
	host, port, err := net.SplitHostPort(l.Server)
	if err != nil {
		return nil, fault.New(fault.Usage, "the server's address is not host:port", l.Server, "Correct it in the account.")
	}
	s := &Session{page: c, engine: engine, login: l, syntax: database.MariaDB.Syntax}
	s.dsn = fmt.Sprintf("mysql:host=%s;port=%s;dbname=%s;charset=utf8mb4", host, port, l.Database)
	if engine == database.PostgreSQL.Name {
		s.syntax = database.PostgreSQL.Syntax
		s.dsn = fmt.Sprintf("pgsql:host=%s;port=%s;dbname=%s", host, port, l.Database)
	}
	_, _, err = s.Version(ctx)
	return s, err
}

func (s *Session) request(do string) map[string]any {
	return map[string]any{"do": do, "dsn": s.dsn, "user": s.login.User, "password": s.login.Password.Reveal()}
}

// most is about how many bytes of statements go in one request.
const most = 512 << 10

var sets = regexp.MustCompile(`(?i)^(/\*!\d+\s+)?SET\s`)

// Run implements database.Session. Statements go in parcels, each over a new
// connection: what the script has SET is set again for each.
func (s *Session) Run(ctx context.Context, script io.Reader, options database.ScriptOptions) (int, error) {
	var parcel []database.Statement
	size, count := 0, 0
	send := func() error {
		texts := make([]string, len(parcel))
		for i, p := range parcel {
			texts[i] = p.Text
		}
		request := s.request("sql")
		request["before"], request["statements"] = append([]string{}, s.before...), texts
		var answer struct {
			Failed int    `json:"failed"`
			Error  string `json:"error"`
		}
		if err := s.page.ask(ctx, request, &answer); err != nil {
			return s.explain(err)
		}
		if answer.Failed >= 0 && answer.Failed < len(parcel) {
			count += answer.Failed
			return fmt.Errorf("line %d: the database server says: %s", parcel[answer.Failed].Line, answer.Error)
		}
		count += len(parcel)
		for _, p := range parcel {
			if sets.MatchString(p.Text) {
				s.before = append(s.before, p.Text)
			}
		}
		parcel, size = nil, 0
		return nil
	}
	err := database.Statements(script, s.syntax, options, func(statement database.Statement) error {
		if statement.Data != nil {
			return fmt.Errorf("line %d: COPY cannot be done from inside of PHP; reach the database directly, or through SSH",
				statement.Line)
		}
		parcel, size = append(parcel, statement), size+len(statement.Text)
		if size < most {
			return nil
		}
		return send()
	})
	if err == nil && len(parcel) > 0 {
		err = send()
	}
	return count, err
}

// rows runs one statement with values.
func (s *Session) rows(ctx context.Context, query string, values map[string]string) ([]string, error) {
	text, args, err := database.Positional(query, s.syntax, values, database.Question)
	if err != nil {
		return nil, err
	}
	request := s.request("ask")
	request["query"], request["values"] = text, append([]any{}, args...)
	var answer struct {
		Rows []string `json:"rows"`
	}
	err = s.page.ask(ctx, request, &answer)
	return answer.Rows, s.explain(err)
}

// explain tells a database that is not there, or a password that is refused,
// by what PHP says of it (PDO, "Error codes").
func (s *Session) explain(err error) error {
	var f *fault.Error
	if !errors.As(err, &f) {
		return err
	}
	where := s.login.User + " on " + s.login.Server
	switch {
	case strings.Contains(f.What, "[1045]"), strings.Contains(f.What, "password authentication failed"),
		strings.Contains(f.What, "[1044]"):
		return fault.NewAs(fault.SignInRefused, fault.Failed, "the database server refused the user or password", where,
			"Check both in the host's control panel.").Wrap(err)
	case strings.Contains(f.What, "[2002]"), strings.Contains(f.What, "[2006]"),
		strings.Contains(f.What, "Connection refused"):
		return fault.NewAs(fault.NoAnswer, fault.Failed, "the database server does not answer the account's PHP",
			s.login.Server,
			"Check the server's address in the host's control panel.").Wrap(err)
	case strings.Contains(f.What, "could not find driver"):
		return fault.New(fault.Failed, "the account's PHP has no driver for "+s.engine, s.login.Server,
			"Ask the host to switch on PDO for it.").Wrap(err)
	}
	return err
}

// Exec implements database.Session.
func (s *Session) Exec(ctx context.Context, statement string, values map[string]string) error {
	_, err := s.rows(ctx, statement, values)
	return err
}

// Value implements database.Session.
func (s *Session) Value(ctx context.Context, query string, values map[string]string) (string, error) {
	rows, err := s.rows(ctx, query, values)
	if err == nil && len(rows) == 0 {
		return "", database.ErrNoRow
	}
	if err != nil {
		return "", err
	}
	return rows[0], nil
}

// Tables implements database.Session.
func (s *Session) Tables(ctx context.Context) ([]string, error) {
	if s.engine == database.PostgreSQL.Name {
		return s.rows(ctx, `SELECT table_name FROM information_schema.tables WHERE table_schema = current_schema() ORDER BY table_name COLLATE "C"`, nil)
	}
	return s.rows(ctx, "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() ORDER BY "+
		"table_name", nil)
}

// DropTables implements database.Session.
func (s *Session) DropTables(ctx context.Context, names []string) error {
	request := s.request("sql")
	statements := []string{}
	for _, name := range names {
		if s.engine == database.PostgreSQL.Name {
			statements = append(statements, `DROP TABLE IF EXISTS "`+strings.ReplaceAll(name, `"`, `""`)+`" CASCADE`)
		} else {
			statements = append(statements, "DROP TABLE IF EXISTS `"+strings.ReplaceAll(name, "`", "``")+"`")
		}
	}
	before := []string{}
	if s.engine != database.PostgreSQL.Name {
		before = append(before, "SET foreign_key_checks = 0")
	}
	request["before"], request["statements"] = before, statements
	var answer struct {
		Failed int    `json:"failed"`
		Error  string `json:"error"`
	}
	if err := s.page.ask(ctx, request, &answer); err != nil {
		return s.explain(err)
	}
	if answer.Failed >= 0 {
		return fmt.Errorf("the database server says: %s", answer.Error)
	}
	return nil
}

var number = regexp.MustCompile(`^[0-9]+(\.[0-9]+)*`)

// Version implements database.Session.
func (s *Session) Version(ctx context.Context) (engine, version string, err error) {
	query := "SELECT VERSION()"
	if s.engine == database.PostgreSQL.Name {
		query = "SHOW server_version"
	}
	text, err := s.Value(ctx, query, nil)
	return s.engine, number.FindString(text), err
}

// Lacking implements database.Session. Rights are not looked at from inside:
// the script that lacks one says so, and is undone.
func (s *Session) Lacking(context.Context) ([]string, error) { return nil, nil }

// Empty implements database.Session.
func (s *Session) Empty(ctx context.Context, only func(string) bool) error {
	all, err := s.Tables(ctx)
	if err != nil {
		return err
	}
	if only != nil {
		all = slices.DeleteFunc(all, func(name string) bool { return !only(name) })
	}
	return s.DropTables(ctx, all)
}

// Dump implements database.Session.
func (s *Session) Dump(context.Context, io.Writer, func(string) bool) error {
	return fault.New(fault.Failed, "a database cannot be dumped from inside of PHP", s.login.Server,
		"Reach it directly, or through SSH.")
}

// Close implements database.Session. Nothing is held open.
func (s *Session) Close() error { return nil }
