// Package postgresql makes and uses databases on PostgreSQL servers.
package postgresql

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
)

// Deadlines for a server that does not answer.
const (
	signInTime = 15 * time.Second
	adminTime  = time.Minute     // a statement of the one who may create
	replyTime  = 5 * time.Minute // a statement of a large schema may take long
)

// line is one connection, made again when it was lost between two calls.
type line struct {
	login database.Login

	mu   sync.Mutex
	conn *pgx.Conn
}

// Server is a server seen by somebody who may create.
type Server struct{ *line }

// Session is a site's database.
type Session struct{ *line }

var (
	_ database.Server  = (*Server)(nil)
	_ database.Session = (*Session)(nil)
)

// Connect signs in to a server. The error is a fault that tells a server that
// is down from a password that is refused.
func Connect(ctx context.Context, login database.Login) (*Server, error) {
	if login.Database == "" {
		login.Database = "postgres" // which every server has
	}
	l, err := open(ctx, login)
	if err != nil {
		return nil, err
	}
	return &Server{l}, nil
}

// Open signs in to a site's database.
func Open(ctx context.Context, login database.Login) (*Session, error) {
	l, err := open(ctx, login)
	if err != nil {
		return nil, err
	}
	return &Session{l}, nil
}

func open(ctx context.Context, login database.Login) (*line, error) {
	l := &line{login: login}
	return l, l.use(ctx, signInTime, func(context.Context, *pgx.Conn) error { return nil })
}

// use runs a call on the connection.
func (l *line) use(ctx context.Context, most time.Duration, call func(context.Context, *pgx.Conn) error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn == nil || l.conn.IsClosed() {
		conn, err := dial(ctx, l.login)
		if err != nil {
			return explain(err, l.login)
		}
		l.conn = conn
	}
	ctx, cancel := context.WithTimeout(ctx, most)
	defer cancel()
	return explain(call(ctx, l.conn), l.login)
}

// Close ends the connection.
func (l *line) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	return l.conn.Close(ctx)
}

// longestMessage is how long a message of the server may be, in bytes: the row
// of a dump is one.
const longestMessage = 48 << 20

// dial signs in. Nothing is taken from the environment: the login says all.
func dial(ctx context.Context, login database.Login) (*pgx.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, signInTime)
	defer cancel()
	mode := "prefer"
	if strings.HasPrefix(login.Server, "/") || login.Dial != nil || database.Loopback(login.Server) {
		mode = "disable" // it stays on the machine, or what carries it is encrypted already
	}
	config, err := pgx.ParseConfig("host=localhost port=5432 user=u password=p dbname=d sslmode=" + mode)
	if err != nil {
		return nil, err
	}
	// the password is proven, never sent (SCRAM, RFC 5802): not to whoever answers in the server's place either
	config.RequireAuth = "scram-sha-256,none"
	config.User, config.Password, config.Database = login.User, login.Password.Reveal(), login.Database
	network, address := "tcp", login.Server
	if strings.HasPrefix(login.Server, "/") {
		network = "unix"
	} else if config.Host, address, err = hostOf(login.Server); err != nil {
		return nil, err
	}
	dialer := login.Dial
	if dialer == nil {
		dialer = (&net.Dialer{Timeout: signInTime}).DialContext
	}
	config.DialFunc = func(ctx context.Context, _, _ string) (net.Conn, error) { return dialer(ctx, network, address) }
	config.LookupFunc = func(_ context.Context, host string) ([]string, error) { return []string{host}, nil }
	for _, f := range config.Fallbacks {
		f.Host = config.Host
	}
	config.RuntimeParams = map[string]string{"application_name": "tivset"}
	config.DefaultQueryExecMode = pgx.QueryExecModeSimpleProtocol // values without types, as apps write them
	config.BuildFrontend = func(r io.Reader, w io.Writer) *pgproto3.Frontend {
		f := pgproto3.NewFrontend(r, w)
		f.SetMaxBodyLen(longestMessage)
		return f
	}
	return pgx.ConnectConfig(ctx, config)
}

func hostOf(server string) (host, address string, err error) {
	host, _, err = net.SplitHostPort(server)
	return host, server, err
}

var versionNumber = regexp.MustCompile(`^[0-9]+(\.[0-9]+)?`)

// Version implements database.Server and database.Session.
func (l *line) Version(ctx context.Context) (engine, version string, err error) {
	text, err := l.one(ctx, "SHOW server_version")
	return "postgresql", versionNumber.FindString(text), err
}

// one gives the first column of the first row, as text.
func (l *line) one(ctx context.Context, query string, args ...any) (value string, err error) {
	all, err := l.column(ctx, adminTime, query, args...)
	if err == nil && len(all) == 0 {
		return "", database.ErrNoRow
	}
	if err != nil {
		return "", err
	}
	return all[0], nil
}

// column gives the first column of every row, as text.
func (l *line) column(ctx context.Context, most time.Duration, query string, args ...any) (out []string, err error) {
	err = l.use(ctx, most, func(ctx context.Context, c *pgx.Conn) error {
		rows, err := c.Query(ctx, query, args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		out = nil
		for rows.Next() {
			out = append(out, string(rows.RawValues()[0]))
		}
		return rows.Err()
	})
	return out, err
}

func (l *line) exec(ctx context.Context, most time.Duration, statement string, args ...any) error {
	return l.use(ctx, most, func(ctx context.Context, c *pgx.Conn) error {
		_, err := c.Exec(ctx, statement, args...)
		return err
	})
}

// Databases implements database.Server.
func (s *Server) Databases(ctx context.Context) ([]string, error) {
	return s.column(ctx, adminTime, `SELECT datname FROM pg_database ORDER BY datname COLLATE "C"`)
}

// Users implements database.Server.
func (s *Server) Users(ctx context.Context) ([]string, error) {
	return s.column(ctx, adminTime, `SELECT rolname FROM pg_roles ORDER BY rolname COLLATE "C"`)
}

// Sizes implements database.Server.
func (s *Server) Sizes(ctx context.Context) (map[string]int64, error) {
	rows, err := s.column(ctx, adminTime,
		"SELECT pg_database_size(oid) || ' ' || datname FROM pg_database WHERE has_database_privilege(datname, 'CONNECT')")
	out := map[string]int64{}
	for _, r := range rows {
		bytes, name, _ := strings.Cut(r, " ")
		out[name], _ = strconv.ParseInt(bytes, 10, 64)
	}
	return out, err
}

// MayCreate implements database.Server.
func (s *Server) MayCreate(ctx context.Context) error {
	has, err := s.one(ctx,
		"SELECT concat(rolsuper OR rolcreatedb, ' ', rolsuper OR rolcreaterole) FROM pg_roles WHERE rolname = current_user")
	if err != nil {
		return err
	}
	var lacking []string
	if databases, users, _ := strings.Cut(has, " "); databases != "t" {
		lacking = append(lacking, "CREATEDB")
		if users != "t" {
			lacking = append(lacking, "CREATEROLE")
		}
	} else if users != "t" {
		lacking = append(lacking, "CREATEROLE")
	}
	if len(lacking) > 0 {
		return lacksRight(strings.Join(lacking, ", "), s.login)
	}
	return nil
}

func lacksRight(what string, login database.Login) error {
	return fault.New(fault.Failed, "the database user lacks a right: "+what, login.User+" on "+login.Server,
		"Ask the host for a user who may create databases and roles.")
}

// CreateDatabase implements database.Server. Nobody but its owner may connect.
func (s *Server) CreateDatabase(ctx context.Context, name string) error {
	if err := s.exec(ctx, adminTime, "CREATE DATABASE "+quote(name)+" ENCODING 'UTF8' TEMPLATE template0"); err != nil {
		return err
	}
	return s.exec(ctx, adminTime, "REVOKE ALL ON DATABASE "+quote(name)+" FROM PUBLIC")
}

// DropDatabase implements database.Server. Those who are signed in to it are
// signed out.
func (s *Server) DropDatabase(ctx context.Context, name string) error {
	version, err := s.one(ctx, "SHOW server_version_num")
	if err != nil {
		return err
	}
	if number, _ := strconv.Atoi(version); number >= 130000 {
		return s.dropByForce(ctx, name)
	}
	if err := s.exec(ctx, adminTime,
		"SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = $1 AND pid <> pg_backend_pid()",
		name); err != nil {
		return err
	}
	return s.exec(ctx, adminTime, "DROP DATABASE IF EXISTS "+quote(name))
}

// dropByForce drops a database with those who are in it. Who is no superuser may
// not send the server's own processes away, which go by themselves.
func (s *Server) dropByForce(ctx context.Context, name string) error {
	for end := time.Now().Add(20 * time.Second); ; {
		err := s.exec(ctx, adminTime, "DROP DATABASE IF EXISTS "+quote(name)+" WITH (FORCE)")
		var refused *pgconn.PgError
		if !errors.As(err, &refused) || refused.Code != "42501" || !strings.Contains(refused.Message, "process") ||
			time.Now().After(end) { // another right than that to end a process does not come by itself
			return err
		}
		select {
		case <-ctx.Done():
			return err
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// CreateUser implements database.Server: the user owns the database, and so
// may do everything in it.
func (s *Server) CreateUser(ctx context.Context, u database.User) error {
	statements := []string{
		fmt.Sprintf("CREATE ROLE %s LOGIN PASSWORD %s", quote(u.Name), literal(u.Password.Reveal())),
		fmt.Sprintf("GRANT %s TO CURRENT_USER", quote(u.Name)), // who is no superuser gives only to roles that are theirs
		fmt.Sprintf("ALTER DATABASE %s OWNER TO %s", quote(u.Database), quote(u.Name)),
	}
	for _, statement := range statements {
		if err := s.exec(ctx, adminTime, statement); err != nil {
			return err
		}
	}
	return nil
}

// DropUser implements database.Server. What the user owns becomes the
// creator's.
func (s *Server) DropUser(ctx context.Context, u database.User) error {
	there, err := s.one(ctx, "SELECT count(*) FROM pg_roles WHERE rolname = $1", u.Name)
	if err != nil || there == "0" {
		return err
	}
	if err := s.release(ctx, u); err != nil {
		return err
	}
	return s.exec(ctx, adminTime, "DROP ROLE IF EXISTS "+quote(u.Name))
}

func (s *Server) release(ctx context.Context, u database.User) error {
	there, err := s.one(ctx, "SELECT count(*) FROM pg_database WHERE datname = $1", u.Database)
	if err != nil || there == "0" {
		return err
	}
	if err := s.exec(ctx, adminTime, "ALTER DATABASE "+quote(u.Database)+" OWNER TO CURRENT_USER"); err != nil {
		return err
	}
	in := s.login
	in.Database = u.Database
	inside, err := open(ctx, in)
	if err != nil {
		return err
	}
	defer inside.Close()
	for _, statement := range []string{"REASSIGN OWNED BY " + quote(u.Name) + " TO CURRENT_USER", "DROP OWNED BY " +
		quote(u.Name)} {
		if err := inside.exec(ctx, adminTime, statement); err != nil {
			return err
		}
	}
	return nil
}

// quote quotes a name, literal a string (PostgreSQL manual, "Lexical
// Structure").
func quote(name string) string { return pgx.Identifier{name}.Sanitize() }

func literal(text string) string {
	if !strings.Contains(text, `\`) {
		return "'" + strings.ReplaceAll(text, "'", "''") + "'"
	}
	return "E'" + strings.NewReplacer(`\`, `\\`, "'", "''").Replace(text) + "'"
}
