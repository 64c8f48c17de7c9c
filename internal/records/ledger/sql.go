package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"

	"github.com/segmentio/encoding/json" // which reads thousands of records in half the time
)

// SQL is a ledger in a database, of whichever kind: statements are what both SQLite and PostgreSQL
// understand. What a record says is kept as JSON, so that adding a field needs no change of
// tables; the columns beside it are those that are looked up or sorted by.
type SQL struct {
	db       *sql.DB
	tx       *sql.Tx // the transaction within which all of it is done; nil for one a call
	numbered bool

	// try does something that can be done twice, again where the database was away, and words
	// what went wrong.
	try func(ctx context.Context, do func(context.Context) error) error
}

var _ Ledger = (*SQL)(nil)

// In is the ledger in a database whose tables are there. Numbered says that values stand in
// statements as $1; try see SQL.
func In(db *sql.DB, numbered bool, try func(context.Context, func(context.Context) error) error) *SQL {
	return &SQL{db: db, numbered: numbered, try: try}
}

// Within is the same ledger within a transaction, which the caller ends.
func (l *SQL) Within(tx *sql.Tx) *SQL {
	return &SQL{tx: tx, numbered: l.numbered, try: func(ctx context.Context, do func(context.Context) error) error {
		return do(ctx)
	}}
}

// runner is what runs statements.
type runner interface {
	ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error)
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

func (l *SQL) runner() runner {
	if l.tx != nil {
		return l.tx
	}
	return l.db
}

// said is a statement as the database has it.
func (l *SQL) said(statement string) string {
	if !l.numbered {
		return statement
	}
	var out strings.Builder
	for n, part := range strings.Split(statement, "?") {
		if n > 0 {
			out.WriteString("$" + strconv.Itoa(n))
		}
		out.WriteString(part)
	}
	return out.String()
}

// exec changes something, and says how many rows.
func (l *SQL) exec(ctx context.Context, in runner, statement string, args ...any) (int64, error) {
	done, err := in.ExecContext(ctx, l.said(statement), args...)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

// one changes something with one statement.
func (l *SQL) one(ctx context.Context, statement string, args ...any) error {
	return l.try(ctx, func(ctx context.Context) error {
		_, err := l.exec(ctx, l.runner(), statement, args...)
		return err
	})
}

// inOne does something in one transaction.
func (l *SQL) inOne(ctx context.Context, do func(context.Context, runner) error) error {
	if l.tx != nil {
		return do(ctx, l.tx)
	}
	return l.try(ctx, func(ctx context.Context) error {
		tx, err := l.db.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer func() { _ = tx.Rollback() }()
		if err := do(ctx, tx); err != nil {
			return err
		}
		return tx.Commit()
	})
}

// rows reads rows, one call of read each.
func (l *SQL) rows(ctx context.Context, read func(*sql.Rows) error, query string, args ...any) error {
	rows, err := l.runner().QueryContext(ctx, l.said(query), args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := read(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// list reads rows into a list.
func list[T any](ctx context.Context, l *SQL, read func(*sql.Rows) (T, error), query string, args ...any) (out []T,
	err error) {
	err = l.try(ctx, func(ctx context.Context) error {
		out = nil
		return l.rows(ctx, func(rows *sql.Rows) error {
			one, err := read(rows)
			out = append(out, one)
			return err
		}, query, args...)
	})
	return out, err
}

// records reads whole records.
func records[T any](ctx context.Context, l *SQL, query string, args ...any) (out []T, err error) {
	err = l.try(ctx, func(ctx context.Context) error {
		var r Reading[T]
		err := l.rows(ctx, func(rows *sql.Rows) error {
			var text []byte
			err := rows.Scan(&text)
			r.Take(text)
			return err
		}, query, args...)
		all, errRead := r.All()
		out = all
		return errors.Join(err, errRead)
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// record reads one record; fs.ErrNotExist where there is none.
func record[T any](ctx context.Context, l *SQL, missing, query string, args ...any) (T, error) {
	found, err := records[T](ctx, l, query, args...)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("%s: %w", missing, fs.ErrNotExist)
	}
	if err != nil {
		var none T
		return none, err
	}
	return found[0], nil
}

// put keeps a record in the last column that a statement names.
func (l *SQL) put(ctx context.Context, statement string, record any, columns ...any) error {
	text, err := json.Marshal(record)
	if err != nil {
		return err
	}
	return l.one(ctx, statement, append(columns, string(text))...)
}

// Moment is a time as text that sorts by time.
func Moment(at time.Time) string { return at.UTC().Format("2006-01-02T15:04:05.000000000Z") }

// Redirects implements Ledger.
func (l *SQL) Redirects(ctx context.Context) ([]Redirect, error) {
	return records[Redirect](ctx, l, "SELECT record FROM redirects ORDER BY address")
}

// PutRedirect implements Ledger.
func (l *SQL) PutRedirect(ctx context.Context, r Redirect) error {
	return l.put(ctx, "INSERT INTO redirects (address, record) VALUES (?, ?) ON CONFLICT (address) DO UPDATE SET "+
		"record = excluded.record", r, r.Address)
}

// DropRedirect implements Ledger.
func (l *SQL) DropRedirect(ctx context.Context, address string) error {
	return l.one(ctx, "DELETE FROM redirects WHERE address = ?", address)
}

// Close implements Ledger.
func (l *SQL) Close() error { return l.db.Close() }
