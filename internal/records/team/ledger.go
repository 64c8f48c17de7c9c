package team

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"

	"github.com/jackc/pgx/v5"

	"tivset/internal/answer/care"
	"tivset/internal/records/ledger"
)

var _ ledger.Ledger = (*Team)(nil)

// Sites implements ledger.Ledger.
func (t *Team) Sites(ctx context.Context) ([]ledger.Site, error) {
	return records[ledger.Site](ctx, t, "SELECT record FROM sites ORDER BY address")
}

// Addresses implements ledger.Ledger.
func (t *Team) Addresses(ctx context.Context) ([]string, error) {
	return list(ctx, t, pgx.RowTo[string], "SELECT address FROM sites ORDER BY address")
}

// Site implements ledger.Ledger.
func (t *Team) Site(ctx context.Context, address string) (ledger.Site, error) {
	found, err := records[ledger.Site](ctx, t, "SELECT record FROM sites WHERE address = $1", address)
	if err == nil && len(found) == 0 {
		err = fmt.Errorf("no site is recorded at %s: %w", address, fs.ErrNotExist)
	}
	if err != nil {
		return ledger.Site{}, err
	}
	return found[0], nil
}

// PutSite implements ledger.Ledger.
func (t *Team) PutSite(ctx context.Context, s ledger.Site) error {
	return t.putSite(ctx, "record = excluded.record", s)
}

// KeepSite implements ledger.Ledger.
func (t *Team) KeepSite(ctx context.Context, s ledger.Site) error {
	return t.putSite(ctx, "record = jsonb_set(excluded.record, '{care}', sites.record->'care')", s)
}

func (t *Team) putSite(ctx context.Context, replaced string, s ledger.Site) error {
	return t.inOne(ctx, func(ctx context.Context, tx pgx.Tx) error { return putSite(ctx, tx, replaced, s) })
}

func putSite(ctx context.Context, tx pgx.Tx, replaced string, s ledger.Site) error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "INSERT INTO sites (address, account, record) VALUES ($1, $2, $3) ON CONFLICT (address) DO "+
		"UPDATE SET account = excluded.account, "+replaced, s.Address, s.Account, text); err != nil {
		return err
	}
	m, is := ledger.Measured(s)
	if !is {
		return nil
	}
	if err := putMeasure(ctx, tx, m); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "DELETE FROM measures WHERE address = $1 AND day < to_char($2::date - $3::int, 'YYYY-MM-DD')",
		m.Address, m.Day, ledger.MeasuredFor)
	return err
}

func putMeasure(ctx context.Context, tx pgx.Tx, m ledger.Measure) error {
	_, err := tx.Exec(ctx, "INSERT INTO measures (address, day, bytes) VALUES ($1, $2, $3) ON CONFLICT (address, day) "+
		"DO UPDATE SET bytes = excluded.bytes", m.Address, m.Day, m.Bytes)
	return err
}

// Entrust implements ledger.Ledger.
func (t *Team) Entrust(ctx context.Context, decided map[string]care.Care) error {
	return t.inOne(ctx, func(ctx context.Context, tx pgx.Tx) error {
		for address, c := range decided {
			text, err := json.Marshal(c)
			if err != nil {
				return err
			}
			done, err := tx.Exec(ctx, "UPDATE sites SET record = jsonb_set(record, '{care}', $2) WHERE address = $1", address,
				text)
			if err != nil {
				return err
			}
			if done.RowsAffected() == 0 {
				return fmt.Errorf("no site is recorded at %s: %w", address, fs.ErrNotExist)
			}
		}
		return nil
	})
}

// DropSite implements ledger.Ledger.
func (t *Team) DropSite(ctx context.Context, address string) error {
	return t.inOne(ctx, func(ctx context.Context, tx pgx.Tx) error {
		for _, table := range []string{"sites", "measures", "told"} {
			if _, err := tx.Exec(ctx, "DELETE FROM "+table+" WHERE address = $1", address); err != nil {
				return err
			}
		}
		return nil
	})
}

// PutMeasure implements ledger.Ledger.
func (t *Team) PutMeasure(ctx context.Context, m ledger.Measure) error {
	return t.inOne(ctx, func(ctx context.Context, tx pgx.Tx) error { return putMeasure(ctx, tx, m) })
}

// Measures implements ledger.Ledger.
func (t *Team) Measures(ctx context.Context) ([]ledger.Measure, error) {
	return list(ctx, t, pgx.RowToStructByPos[ledger.Measure],
		"SELECT address, day, bytes FROM measures ORDER BY address, day")
}

// Redirects implements ledger.Ledger.
func (t *Team) Redirects(ctx context.Context) ([]ledger.Redirect, error) {
	return records[ledger.Redirect](ctx, t, "SELECT record FROM redirects ORDER BY address")
}

const (
	putRedirect = "INSERT INTO redirects (address, record) VALUES ($1, $2) ON CONFLICT (address) DO UPDATE SET " +
		"record = excluded.record"
	putJob = "INSERT INTO jobs (id, started, record) VALUES ($1, $2, $3) ON CONFLICT (id) DO UPDATE SET " +
		"started = excluded.started, record = excluded.record"
)

// PutRedirect implements ledger.Ledger.
func (t *Team) PutRedirect(ctx context.Context, r ledger.Redirect) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return t.exec(ctx, putRedirect, r.Address, text)
}

// DropRedirect implements ledger.Ledger.
func (t *Team) DropRedirect(ctx context.Context, address string) error {
	return t.exec(ctx, "DELETE FROM redirects WHERE address = $1", address)
}

// Jobs implements ledger.Ledger.
func (t *Team) Jobs(ctx context.Context) ([]ledger.Job, error) {
	return records[ledger.Job](ctx, t, "SELECT record FROM jobs ORDER BY started DESC, id DESC")
}

// PutJob implements ledger.Ledger.
func (t *Team) PutJob(ctx context.Context, j ledger.Job) error {
	text, err := json.Marshal(j)
	if err != nil {
		return err
	}
	return t.exec(ctx, putJob, j.ID, ledger.Moment(j.Started), text)
}

func (t *Team) exec(ctx context.Context, statement string, args ...any) error {
	return t.do(ctx, func(ctx context.Context) error {
		_, err := t.pool.Exec(ctx, statement, args...)
		return err
	})
}

// inOne does something in one transaction, and again where the connection was lost.
func (t *Team) inOne(ctx context.Context, do func(context.Context, pgx.Tx) error) error {
	return t.do(ctx, func(ctx context.Context) error {
		return pgx.BeginFunc(ctx, t.pool, func(tx pgx.Tx) error { return do(ctx, tx) })
	})
}

// list reads rows.
func list[T any](ctx context.Context, t *Team, row pgx.RowToFunc[T], query string, args ...any) (out []T, err error) {
	err = t.do(ctx, func(ctx context.Context) error {
		rows, err := t.pool.Query(ctx, query, args...)
		if err != nil {
			return err
		}
		out, err = pgx.CollectRows(rows, row)
		return err
	})
	return out, err
}

// records reads whole records, the first while the rest still comes.
func records[T any](ctx context.Context, t *Team, query string, args ...any) (out []T, err error) {
	err = t.do(ctx, func(ctx context.Context) error {
		rows, err := t.pool.Query(ctx, query, args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		var r ledger.Reading[T]
		for rows.Next() {
			var text []byte
			if err := rows.Scan(&text); err != nil {
				return err
			}
			r.Take(text)
		}
		all, err := r.All()
		out = all
		return errors.Join(rows.Err(), err)
	})
	return out, err
}
