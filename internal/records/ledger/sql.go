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

	"tivset/internal/records/trust"
)

// SQL is a ledger in a database, of whichever kind: statements are what both SQLite and PostgreSQL
// understand. What a record says is kept as JSON, so that adding a field needs no change of
// tables; the columns beside it are those that are looked up or sorted by.
type SQL struct {
	db       *sql.DB
	tx       *sql.Tx // the transaction within which all of it is done; nil for one a call
	numbered bool
	witness  Witness // nil where the database is believed
	said     Word    // of that transaction; nil where it is believed

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

// Within is the same ledger within a transaction, which the caller ends; w is nil where the database is believed.
func (l *SQL) Within(tx *sql.Tx, w Word) *SQL {
	return &SQL{tx: tx, numbered: l.numbered, said: w, try: func(ctx context.Context,
		do func(context.Context) error) error {
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

// spelled is a statement as the database has it.
func (l *SQL) spelled(statement string) string {
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
	done, err := in.ExecContext(ctx, l.spelled(statement), args...)
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

// drop forgets a record by its key; none there is fine.
func (l *SQL) drop(ctx context.Context, what trust.What, statement string) error {
	return l.inOne(ctx, func(ctx context.Context, in hand) error {
		n, err := l.exec(ctx, in, statement, what.Key)
		if err == nil && n > 0 {
			err = in.Note(what)
		}
		return err
	})
}

// rows reads rows, one call of read each.
func (l *SQL) rows(ctx context.Context, in runner, read func(*sql.Rows) error, query string, args ...any) error {
	rows, err := in.QueryContext(ctx, l.spelled(query), args...)
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

// list reads rows of which nobody vouches into a list.
func list[T any](ctx context.Context, l *SQL, read func(*sql.Rows) (T, error), query string, args ...any) (out []T,
	err error) {
	err = l.try(ctx, func(ctx context.Context) error {
		out = nil
		return l.rows(ctx, l.runner(), func(rows *sql.Rows) error {
			one, err := read(rows)
			out = append(out, one)
			return err
		}, query, args...)
	})
	return out, err
}

// records reads whole records of a kind, with their keys before them; all says that there are no others of it.
func records[T any](ctx context.Context, l *SQL, kind trust.Kind, all bool, query string, args ...any) (out []T,
	err error) {
	err = l.view(ctx, func(ctx context.Context, in hand) error {
		if all {
			if err := in.Many(kind); err != nil {
				return err
			}
		}
		var r Reading[T]
		var keys []string
		err := l.rows(ctx, in, func(rows *sql.Rows) error {
			var key string
			var text []byte
			if err := rows.Scan(&key, &text); err != nil {
				return err
			}
			keys = append(keys, key)
			r.Take(text)
			return in.Right(kind, key, text)
		}, query, args...)
		found, errRead := r.All()
		out = found
		if err == nil && all {
			err = in.Whole(kind, "", keys)
		}
		return errors.Join(err, errRead)
	})
	if err != nil {
		return nil, err
	}
	return out, nil
}

// record reads one record by its key; fs.ErrNotExist where there is none.
func record[T any](ctx context.Context, l *SQL, kind trust.Kind, key, missing, query string) (one T, err error) {
	err = l.view(ctx, func(ctx context.Context, in hand) error {
		text, err := l.text(ctx, in, kind, key, query)
		if err != nil {
			return err
		}
		if text == nil {
			return fmt.Errorf("%s: %w", missing, fs.ErrNotExist)
		}
		if err := json.Unmarshal(text, &one); err != nil {
			return errors.Join(errRecord, err)
		}
		return nil
	})
	return one, err
}

// text reads one record by its key, as it is kept; nil where there is none.
func (l *SQL) text(ctx context.Context, in hand, kind trust.Kind, key, query string) (text []byte, err error) {
	err = l.rows(ctx, in, func(rows *sql.Rows) error { return rows.Scan(&text) }, query, key)
	if err != nil {
		return nil, err
	}
	return text, in.Right(kind, key, text)
}

// put keeps a record in the last column that a statement names.
func (l *SQL) put(ctx context.Context, what trust.What, statement string, record any, columns ...any) error {
	return l.inOne(ctx, func(ctx context.Context, in hand) error {
		return l.putIn(ctx, in, what, statement, record, columns...)
	})
}

func (l *SQL) putIn(ctx context.Context, in hand, what trust.What, statement string, record any, columns ...any) error {
	text, err := json.Marshal(record)
	if err != nil {
		return err
	}
	if _, err := l.exec(ctx, in, statement, append(columns, string(text))...); err != nil {
		return err
	}
	what.Record = text
	return in.Note(what)
}

// Moment is a time as text that sorts by time.
func Moment(at time.Time) string { return at.UTC().Format("2006-01-02T15:04:05.000000000Z") }

// Redirects implements Ledger.
func (l *SQL) Redirects(ctx context.Context) ([]Redirect, error) {
	return records[Redirect](ctx, l, trust.OfLeading, true, "SELECT address, record FROM redirects ORDER BY address")
}

// PutRedirect implements Ledger.
func (l *SQL) PutRedirect(ctx context.Context, r Redirect) error {
	return l.put(ctx, trust.What{Kind: trust.OfLeading, Key: r.Address}, "INSERT INTO redirects (address, record) VALUES "+
		"(?, ?) ON CONFLICT (address) DO UPDATE SET record = excluded.record", r, r.Address)
}

// DropRedirect implements Ledger.
func (l *SQL) DropRedirect(ctx context.Context, address string) error {
	return l.drop(ctx, trust.What{Kind: trust.OfLeading, Key: address}, "DELETE FROM redirects WHERE address = ?")
}

// Close implements Ledger.
func (l *SQL) Close() error { return l.db.Close() }
