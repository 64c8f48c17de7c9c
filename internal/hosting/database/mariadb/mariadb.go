// Package mariadb makes and uses databases on MariaDB and MySQL servers.
package mariadb

import (
	"context"
	"crypto/tls"
	"database/sql"
	"fmt"
	"io"
	"log"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"tivset/internal/hosting/database"
)

// Deadlines for a server that does not answer.
const (
	signInTime = 15 * time.Second
	adminTime  = time.Minute     // a statement of the one who may create
	replyTime  = 5 * time.Minute // a statement of a large schema may take long
)

// Server is a server seen by somebody who may create.
type Server struct {
	pool  *sql.DB
	login database.Login
}

// Session is a site's database.
type Session struct {
	pool  *sql.DB
	login database.Login
}

var (
	_ database.Server  = (*Server)(nil)
	_ database.Session = (*Session)(nil)
)

// Connect signs in to a server. The error is a fault that tells a server that
// is down from a password that is refused.
func Connect(ctx context.Context, login database.Login) (*Server, error) {
	pool, err := open(ctx, login)
	if err != nil {
		return nil, err
	}
	return &Server{pool, login}, nil
}

// Open signs in to a site's database.
func Open(ctx context.Context, login database.Login) (*Session, error) {
	pool, err := open(ctx, login)
	if err != nil {
		return nil, err
	}
	return &Session{pool, login}, nil
}

func open(ctx context.Context, login database.Login) (*sql.DB, error) {
	c := mysql.NewConfig()
	c.User, c.Passwd, c.DBName = login.User, login.Password.Reveal(), login.Database
	c.Net, c.Addr = "tcp", login.Server
	if strings.HasPrefix(login.Server, "/") {
		c.Net = "unix"
	} else if login.Certificate != nil {
		// In a line with TLS the plugins of MySQL 8 send the password as it is: to a server that is known. One that
		// offers none gets it scrambled, or not at all.
		c.TLS, c.AllowFallbackToPlaintext = &tls.Config{InsecureSkipVerify: true, VerifyConnection: login.Certificate}, true
	}
	c.DialFunc = dialing(login.Dial)
	c.Timeout, c.ReadTimeout, c.WriteTimeout = signInTime, replyTime, replyTime
	c.ServerPubKey = nobodys   // no password goes out under a key that the server has just shown
	c.InterpolateParams = true // one round trip a statement; also for CREATE USER, which cannot be prepared
	c.Logger = log.New(io.Discard, "", 0)
	c.MaxAllowedPacket = 0 // ask the server
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, fmt.Errorf("set up the connection to %s: %w", login.Server, err)
	}
	pool := sql.OpenDB(careful{connector})
	pool.SetMaxOpenConns(1) // session settings of a script hold for all of it
	ctx, cancel := context.WithTimeout(ctx, signInTime)
	defer cancel()
	if err := pool.PingContext(ctx); err != nil {
		pool.Close()
		return nil, explain(err, login)
	}
	return pool, nil
}

// Close ends the connection.
func (s *Server) Close() error { return s.pool.Close() }

// Version implements database.Server.
func (s *Server) Version(ctx context.Context) (engine, version string, err error) {
	ctx, cancel := context.WithTimeout(ctx, adminTime)
	defer cancel()
	return versionOf(ctx, s.pool, s.login)
}

func versionOf(ctx context.Context, pool *sql.DB, login database.Login) (engine, version string, err error) {
	if err := pool.QueryRowContext(ctx, "SELECT VERSION()").Scan(&version); err != nil {
		return "", "", explain(err, login)
	}
	engine = "mysql"
	if strings.Contains(strings.ToLower(version), "mariadb") {
		engine = "mariadb"
	}
	version, _, _ = strings.Cut(version, "-")
	return engine, version, nil
}

// Databases implements database.Server.
func (s *Server) Databases(ctx context.Context) ([]string, error) {
	return s.list(ctx, "SELECT schema_name FROM information_schema.schemata ORDER BY schema_name")
}

// Users implements database.Server.
func (s *Server) Users(ctx context.Context) ([]string, error) {
	return s.list(ctx, "SELECT DISTINCT user FROM mysql.user ORDER BY user")
}

// Sizes implements database.Server.
func (s *Server) Sizes(ctx context.Context) (map[string]int64, error) {
	ctx, cancel := context.WithTimeout(ctx, adminTime)
	defer cancel()
	rows, err := s.pool.QueryContext(ctx,
		"SELECT table_schema, SUM(data_length + index_length) FROM information_schema.tables GROUP BY table_schema")
	if err != nil {
		return nil, explain(err, s.login)
	}
	defer rows.Close()
	out := map[string]int64{}
	for rows.Next() {
		var name string
		var bytes sql.NullInt64
		if err := rows.Scan(&name, &bytes); err != nil {
			return nil, err
		}
		out[name] = bytes.Int64
	}
	return out, explain(rows.Err(), s.login)
}

func (s *Server) list(ctx context.Context, query string) ([]string, error) {
	ctx, cancel := context.WithTimeout(ctx, adminTime)
	defer cancel()
	names, err := column(ctx, s.pool, query)
	return names, explain(err, s.login)
}

func column(ctx context.Context, pool *sql.DB, query string) ([]string, error) {
	rows, err := pool.QueryContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	return out, rows.Err()
}

// CreateDatabase implements database.Server. The character set is utf8mb4,
// which holds every text.
func (s *Server) CreateDatabase(ctx context.Context, name string) error {
	return s.exec(ctx, "CREATE DATABASE "+quoteName(name)+" CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci")
}

// DropDatabase implements database.Server.
func (s *Server) DropDatabase(ctx context.Context, name string) error {
	return s.exec(ctx, "DROP DATABASE IF EXISTS "+quoteName(name))
}

// CreateUser implements database.Server.
func (s *Server) CreateUser(ctx context.Context, u database.User) error {
	for _, client := range u.Clients {
		if err := s.exec(ctx, "CREATE USER ?@? IDENTIFIED BY ?", u.Name, client, u.Password.Reveal()); err != nil {
			return err
		}
		if err := s.exec(ctx, "GRANT ALL PRIVILEGES ON "+quotePattern(u.Database)+".* TO ?@?", u.Name, client); err != nil {
			return err
		}
	}
	return nil
}

// DropUser implements database.Server.
func (s *Server) DropUser(ctx context.Context, u database.User) error {
	for _, client := range u.Clients {
		if err := s.exec(ctx, "DROP USER IF EXISTS ?@?", u.Name, client); err != nil {
			return err
		}
	}
	return nil
}

func (s *Server) exec(ctx context.Context, statement string, args ...any) error {
	ctx, cancel := context.WithTimeout(ctx, adminTime)
	defer cancel()
	_, err := s.pool.ExecContext(ctx, statement, args...)
	return explain(err, s.login)
}

// quoteName quotes a name (MariaDB manual, "Identifier Names").
func quoteName(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// quotePattern quotes a database's name for GRANT, where _ and % would match
// any character: without this, a user of quill_a would also have rights on a
// database quillxa.
func quotePattern(name string) string {
	return quoteName(strings.NewReplacer("_", `\_`, "%", `\%`).Replace(name))
}
