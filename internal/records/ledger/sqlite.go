package ledger

import (
	"context"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"

	_ "modernc.org/sqlite" // the driver

	"tivset/internal/fault"
)

// SQLite is a ledger in a file.
type SQLite struct{ *SQL }

// format is the version of the tables, kept in the file (PRAGMA user_version).
const format = 5

const tables = `
CREATE TABLE sites (address TEXT PRIMARY KEY, account TEXT NOT NULL, record TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE jobs (id TEXT PRIMARY KEY, started TEXT NOT NULL, record TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE INDEX jobs_started ON jobs (started);`

// since are the tables that came with a format.
var since = map[int]string{
	1: tables,
	2: "CREATE TABLE redirects (address TEXT PRIMARY KEY, record TEXT NOT NULL) STRICT, WITHOUT ROWID;",
	3: "CREATE TABLE measures (address TEXT NOT NULL, day TEXT NOT NULL, bytes INTEGER NOT NULL, " +
		"PRIMARY KEY (address, day)) STRICT, WITHOUT ROWID;",
	4: "CREATE TABLE rounds (at TEXT, who TEXT, record TEXT NOT NULL, PRIMARY KEY (at, who)) STRICT, WITHOUT ROWID;" +
		"CREATE TABLE told (address TEXT, trouble TEXT, at TEXT NOT NULL, PRIMARY KEY (address, trouble)) STRICT, " +
		"WITHOUT ROWID;",
	5: "ALTER TABLE jobs ADD COLUMN ended TEXT NOT NULL DEFAULT '';" +
		"ALTER TABLE jobs ADD COLUMN number INTEGER NOT NULL DEFAULT 0;" +
		"CREATE INDEX jobs_ended ON jobs (ended); CREATE INDEX jobs_number ON jobs (number);",
}

// Open opens the ledger in a file and makes it when it is not there.
func Open(ctx context.Context, file string) (*SQLite, error) {
	db, err := Private(file, "_pragma=synchronous(full)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	l := &SQLite{In(db, false, func(ctx context.Context, do func(context.Context) error) error { return told(do(ctx)) })}
	if err := l.prepare(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("open the ledger %s: %w", file, told(err))
	}
	return l, nil
}

// Private opens a database in a file that only its owner reads, and makes that when it is not there. Options are the
// driver's, apart by &.
func Private(file, options string) (*sql.DB, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	made, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600) // the driver would make it readable to all
	if err != nil {
		return nil, err
	}
	made.Close()
	return sql.Open("sqlite", address(file)+"?_pragma=busy_timeout(10000)&_txlock=immediate&"+options)
}

// address names a file as SQLite has it (SQLite, "Uniform Resource Identifiers"): in the name of a folder ?, # and %
// are letters as others are.
func address(file string) string {
	return (&url.URL{Scheme: "file", OmitHost: true, Path: file}).String()
}

// prepare makes the tables of a new file. A file that has them is only read:
// another program may be writing.
func (l *SQLite) prepare(ctx context.Context) error {
	have, err := l.format(ctx, l.db)
	if err != nil || have == format {
		return err
	}
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if have, err = l.format(ctx, tx); err != nil || have == format {
		return err // another program was faster
	}
	if have > format {
		return fault.NewAs(fault.OtherRelease, fault.Usage, fmt.Sprintf("the ledger has format %d", have), "",
			"A newer release of Tivset made it; use that one.")
	}
	for have < format {
		have++
		if _, err := tx.ExecContext(ctx, since[have]+fmt.Sprintf("PRAGMA user_version = %d;", have)); err != nil {
			return err
		}
	}
	if err := l.Within(tx, nil).FillColumns(ctx); err != nil {
		return err
	}
	return tx.Commit()
}

func (l *SQLite) format(ctx context.Context, q interface {
	QueryRowContext(context.Context, string, ...any) *sql.Row
}) (have int, err error) {
	err = q.QueryRowContext(ctx, "PRAGMA user_version").Scan(&have)
	return have, err
}

// Snapshot writes the ledger, as it is at one moment, to a new file (SQLite: VACUUM INTO).
func (l *SQLite) Snapshot(ctx context.Context, to string) error {
	_, err := l.db.ExecContext(ctx, "VACUUM INTO ?", to)
	return told(err)
}
