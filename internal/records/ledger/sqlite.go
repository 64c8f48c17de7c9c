package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/segmentio/encoding/json" // which reads thousands of records in half the time

	_ "modernc.org/sqlite" // the driver

	"tivset/internal/answer/care"
	"tivset/internal/fault"
)

// SQLite is a ledger in a file.
type SQLite struct{ db *sql.DB }

var _ Ledger = (*SQLite)(nil)

// format is the version of the tables, kept in the file (PRAGMA user_version).
const format = 4

// What a record says is kept as JSON, so that adding a field needs no change of
// tables; the columns beside it are those that are looked up or sorted by.
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
}

// Open opens the ledger in a file and makes it when it is not there.
func Open(ctx context.Context, file string) (*SQLite, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, err
	}
	made, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600) // the driver would make it readable to all
	if err != nil {
		return nil, err
	}
	made.Close()
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(10000)&_pragma=synchronous(full)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	l := &SQLite{db}
	if err := l.prepare(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("open the ledger %s: %w", file, told(err))
	}
	return l, nil
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
		return fault.New(fault.Usage, fmt.Sprintf("the ledger has format %d", have), "",
			"A newer release of Tivset made it; use that one.")
	}
	for have < format {
		have++
		if _, err := tx.ExecContext(ctx, since[have]+fmt.Sprintf("PRAGMA user_version = %d;", have)); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func (l *SQLite) format(ctx context.Context, q interface {
	QueryRowContext(context.Context, string, ...any) *sql.Row
}) (have int, err error) {
	err = q.QueryRowContext(ctx, "PRAGMA user_version").Scan(&have)
	return have, err
}

// Close closes the file.
func (l *SQLite) Close() error { return l.db.Close() }

// Sites implements Ledger.
func (l *SQLite) Sites(ctx context.Context) ([]Site, error) {
	return records[Site](ctx, l.db, "SELECT record FROM sites ORDER BY address")
}

// Addresses implements Ledger.
func (l *SQLite) Addresses(ctx context.Context) ([]string, error) {
	rows, err := l.db.QueryContext(ctx, "SELECT address FROM sites ORDER BY address")
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var a string
		if err := rows.Scan(&a); err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, told(rows.Err())
}

// Site implements Ledger.
func (l *SQLite) Site(ctx context.Context, address string) (Site, error) {
	found, err := records[Site](ctx, l.db, "SELECT record FROM sites WHERE address = ?", address)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("no site is recorded at %s: %w", address, fs.ErrNotExist)
	}
	if err != nil {
		return Site{}, err
	}
	return found[0], nil
}

// PutSite implements Ledger.
func (l *SQLite) PutSite(ctx context.Context, s Site) error {
	return l.putSite(ctx, "INSERT OR REPLACE INTO sites (address, account, record) VALUES (?, ?, ?)", s)
}

// putSite keeps a site, and with it what it takes on that day.
func (l *SQLite) putSite(ctx context.Context, statement string, s Site) error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return l.inOne(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, statement, s.Address, s.Account, string(text)); err != nil {
			return err
		}
		m, is := Measured(s)
		if !is {
			return nil
		}
		if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO measures VALUES (?, ?, ?)", m.Address, m.Day,
			m.Bytes); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM measures WHERE address = ? AND day < date(?, ?)", m.Address, m.Day,
			fmt.Sprintf("-%d days", MeasuredFor))
		return err
	})
}

// inOne does something in one transaction.
func (l *SQLite) inOne(ctx context.Context, do func(*sql.Tx) error) error {
	tx, err := l.db.BeginTx(ctx, nil)
	if err != nil {
		return told(err)
	}
	defer func() { _ = tx.Rollback() }()
	if err := do(tx); err != nil {
		return told(err)
	}
	return told(tx.Commit())
}

// PutMeasure implements Ledger.
func (l *SQLite) PutMeasure(ctx context.Context, m Measure) error {
	_, err := l.db.ExecContext(ctx, "INSERT OR REPLACE INTO measures VALUES (?, ?, ?)", m.Address, m.Day, m.Bytes)
	return told(err)
}

// Measures implements Ledger.
func (l *SQLite) Measures(ctx context.Context) (out []Measure, err error) {
	rows, err := l.db.QueryContext(ctx, "SELECT address, day, bytes FROM measures ORDER BY address, day")
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	for rows.Next() {
		var m Measure
		if err := rows.Scan(&m.Address, &m.Day, &m.Bytes); err != nil {
			return nil, err
		}
		out = append(out, m)
	}
	return out, told(rows.Err())
}

// KeepSite implements Ledger.
func (l *SQLite) KeepSite(ctx context.Context, s Site) error {
	return l.putSite(
		ctx,
		"INSERT INTO sites (address, account, record) VALUES (?, ?, ?) ON CONFLICT (address) DO UPDATE "+
			"SET account = excluded.account, record = json_set(excluded.record, '$.care', json_extract(sites.record, '$.care'))",
		s,
	)
}

// Entrust implements Ledger.
func (l *SQLite) Entrust(ctx context.Context, decided map[string]care.Care) error {
	return l.inOne(ctx, func(tx *sql.Tx) error {
		for address, c := range decided {
			text, err := json.Marshal(c)
			if err != nil {
				return err
			}
			done, err := tx.ExecContext(
				ctx,
				"UPDATE sites SET record = json_set(record, '$.care', json(?)) WHERE address = ?",
				string(text),
				address,
			)
			if err != nil {
				return err
			}
			if n, err := done.RowsAffected(); err != nil || n == 0 {
				return errors.Join(fmt.Errorf("no site is recorded at %s: %w", address, fs.ErrNotExist), err)
			}
		}
		return nil
	})
}

// DropSite implements Ledger.
func (l *SQLite) DropSite(ctx context.Context, address string) error {
	return l.inOne(ctx, func(tx *sql.Tx) error {
		for _, table := range []string{"sites", "measures", "told"} {
			if _, err := tx.ExecContext(ctx, "DELETE FROM "+table+" WHERE address = ?", address); err != nil {
				return err
			}
		}
		return nil
	})
}

// Redirects implements Ledger.
func (l *SQLite) Redirects(ctx context.Context) ([]Redirect, error) {
	return records[Redirect](ctx, l.db, "SELECT record FROM redirects ORDER BY address")
}

// PutRedirect implements Ledger.
func (l *SQLite) PutRedirect(ctx context.Context, r Redirect) error {
	return l.put(ctx, "INSERT OR REPLACE INTO redirects (address, record) VALUES (?, ?)", r, r.Address)
}

// DropRedirect implements Ledger.
func (l *SQLite) DropRedirect(ctx context.Context, address string) error {
	_, err := l.db.ExecContext(ctx, "DELETE FROM redirects WHERE address = ?", address)
	return err
}

// Jobs implements Ledger.
func (l *SQLite) Jobs(ctx context.Context) ([]Job, error) {
	return records[Job](ctx, l.db, "SELECT record FROM jobs ORDER BY started DESC, id DESC")
}

// PutJob implements Ledger.
func (l *SQLite) PutJob(ctx context.Context, j Job) error {
	return l.put(ctx, "INSERT OR REPLACE INTO jobs (id, started, record) VALUES (?, ?, ?)", j, j.ID,
		Moment(j.Started))
}

func (l *SQLite) put(ctx context.Context, statement string, record any, columns ...any) error {
	text, err := json.Marshal(record)
	if err != nil {
		return err
	}
	_, err = l.db.ExecContext(ctx, statement, append(columns, string(text))...)
	return err
}

// records reads whole records.
func records[T any](ctx context.Context, db *sql.DB, query string, args ...any) ([]T, error) {
	rows, err := db.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	var r Reading[T]
	for rows.Next() {
		var text []byte
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		r.Take(text)
	}
	out, err := r.All()
	if err := errors.Join(rows.Err(), err); err != nil {
		return nil, told(err)
	}
	return out, nil
}
