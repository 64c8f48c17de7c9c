// Package database makes databases and users on the account's servers, and
// works in a site's database as the site's own user.
//
// Implementations stand in the folders below; package databasetest proves that
// each keeps the contract.
package database

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"path"

	"tivset/internal/secret"
)

// Login is how to sign in to a server.
type Login struct {
	Server   string // host:port, or the path of a socket
	User     string
	Password secret.Text
	Database string // "" for none
	Account  string // the name of the account that it is for, to say what to do

	// Certificate judges the certificate of a server on another machine (crypto/tls, Config.VerifyConnection); nil where
	// what carries the line needs none.
	Certificate func(tls.ConnectionState) error

	// Dial makes the connection in place of the system's; it may be nil.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
}

// Server is a database server, seen by somebody who may create.
type Server interface {
	// Version gives the engine's name (mariadb, mysql, postgresql or sqlite) and
	// version.
	Version(ctx context.Context) (engine, version string, err error)

	// MayCreate returns nil when the user may make databases, users and
	// grants; otherwise a fault that names what is lacking.
	MayCreate(ctx context.Context) error

	// Databases and Users list the names that are taken, sorted.
	Databases(ctx context.Context) ([]string, error)
	Users(ctx context.Context) ([]string, error)

	// Sizes gives how many bytes databases take, as far as the server tells.
	Sizes(ctx context.Context) (map[string]int64, error)

	// CreateDatabase makes an empty database. ErrTaken when there is one of
	// that name, which is left as it was.
	CreateDatabase(ctx context.Context, name string) error

	// DropDatabase takes a database away with all in it; none there is fine.
	DropDatabase(ctx context.Context, name string) error

	// CreateUser makes a user with every right on one database and on nothing
	// else. ErrTaken when there is one of that name.
	CreateUser(ctx context.Context, u User) error

	// DropUser takes a user away; none there is fine.
	DropUser(ctx context.Context, u User) error

	Close() error
}

// User is a site's user of a database server.
type User struct {
	Name     string
	Clients  []string // the hosts that it may come from; engines without such a notion pass over them
	Password secret.Text
	Database string
}

// Session is a site's database, seen by the site's own user.
type Session interface {
	// Run runs a script, statement by statement as it is read. It returns how
	// many were run; the error names the line of the one that failed.
	Run(ctx context.Context, script io.Reader, options ScriptOptions) (statements int, err error)

	// Exec runs one statement. Its :names stand for values.
	Exec(ctx context.Context, statement string, values map[string]string) error

	// Value gives the first column of the first row, or ErrNoRow.
	Value(ctx context.Context, query string, values map[string]string) (string, error)

	// Tables lists the tables, sorted.
	Tables(ctx context.Context) ([]string, error)

	// DropTables takes tables away, whatever refers to them; those that are
	// not there are fine.
	DropTables(ctx context.Context, names []string) error

	// Version gives the server's engine and version.
	Version(ctx context.Context) (engine, version string, err error)

	// Lacking lists the rights that the user lacks in its database, of those
	// that an app needs there.
	Lacking(ctx context.Context) ([]string, error)

	// Dump writes a script that Run loads into an empty database: the tables
	// that only lets through (nil for all) with their rows, and what goes with
	// them.
	Dump(ctx context.Context, into io.Writer, only func(table string) bool) error

	// Empty takes away what Dump with the same only writes.
	Empty(ctx context.Context, only func(table string) bool) error

	Close() error
}

// Marker is a session that can tell quickly whether tables have changed.
type Marker interface {
	// Marks gives a checksum of each table, with its rows, and of each view, by
	// name; of what else a dump of the whole database holds, one by the name "".
	// Only is as with Dump. errors.ErrUnsupported where that cannot be told.
	Marks(ctx context.Context, only func(table string) bool) (map[string]string, error)
}

// ScriptOptions say how a script is to be run.
type ScriptOptions struct {
	From string // the table prefix in the script …
	To   string // … and the one to put in its place
}

// File is where a database that is a file lies: in a folder of its own, for
// its engine writes more files beside it.
func File(folder, name string) string { return path.Join(folder, name, name+".sqlite") }

// Errors that callers branch on.
var (
	ErrTaken = errors.New("the name is taken")
	ErrNoRow = errors.New("the query gives no row")
	ErrGone  = errors.New("no connection")
)
