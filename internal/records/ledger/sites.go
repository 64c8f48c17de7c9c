package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"github.com/segmentio/encoding/json"

	"tivset/internal/answer/care"
)

// Sites implements Ledger.
func (l *SQL) Sites(ctx context.Context) ([]Site, error) {
	return records[Site](ctx, l, "SELECT record FROM sites ORDER BY address")
}

// Addresses implements Ledger.
func (l *SQL) Addresses(ctx context.Context) ([]string, error) {
	return list(ctx, l, func(rows *sql.Rows) (address string, err error) {
		return address, rows.Scan(&address)
	}, "SELECT address FROM sites ORDER BY address")
}

// Site implements Ledger.
func (l *SQL) Site(ctx context.Context, address string) (Site, error) {
	return record[Site](ctx, l, "no site is recorded at "+address, "SELECT record FROM sites WHERE address = ?", address)
}

// PutSite implements Ledger.
func (l *SQL) PutSite(ctx context.Context, s Site) error {
	return l.inOne(ctx, func(ctx context.Context, tx runner) error { return l.putSite(ctx, tx, s) })
}

// KeepSite implements Ledger.
func (l *SQL) KeepSite(ctx context.Context, s Site) error {
	return l.inOne(ctx, func(ctx context.Context, tx runner) error {
		now, err := l.locked(ctx, tx, s.Address)
		switch {
		case err == nil:
			s.Care = now.Care
		case !errors.Is(err, fs.ErrNotExist):
			return err
		}
		return l.putSite(ctx, tx, s)
	})
}

// locked reads a site that nobody else changes until the transaction ends: in a file nobody else is in one.
func (l *SQL) locked(ctx context.Context, tx runner, address string) (s Site, err error) {
	query := "SELECT record FROM sites WHERE address = ?"
	if l.numbered {
		query += " FOR UPDATE"
	}
	rows, err := tx.QueryContext(ctx, l.said(query), address)
	if err != nil {
		return s, err
	}
	defer rows.Close()
	if !rows.Next() {
		return s, errors.Join(rows.Err(), fmt.Errorf("no site is recorded at %s: %w", address, fs.ErrNotExist))
	}
	var text []byte
	if err := rows.Scan(&text); err != nil {
		return s, err
	}
	if err := json.Unmarshal(text, &s); err != nil {
		return s, errors.Join(errRecord, err)
	}
	return s, nil
}

// putSite keeps a site, and with it what it takes on that day.
func (l *SQL) putSite(ctx context.Context, tx runner, s Site) error {
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	if _, err := l.exec(ctx, tx, "INSERT INTO sites (address, account, record) VALUES (?, ?, ?) ON CONFLICT (address) DO "+
		"UPDATE SET account = excluded.account, record = excluded.record", s.Address, s.Account, string(text)); err != nil {
		return err
	}
	m, is := Measured(s)
	if !is {
		return nil
	}
	if err := l.putMeasure(ctx, tx, m); err != nil {
		return err
	}
	day, err := time.Parse(time.DateOnly, m.Day)
	if err != nil {
		return err
	}
	_, err = l.exec(ctx, tx, "DELETE FROM measures WHERE address = ? AND day < ?", m.Address,
		day.AddDate(0, 0, -MeasuredFor).Format(time.DateOnly))
	return err
}

// Entrust implements Ledger.
func (l *SQL) Entrust(ctx context.Context, decided map[string]care.Care) error {
	return l.inOne(ctx, func(ctx context.Context, tx runner) error {
		for address, c := range decided {
			s, err := l.locked(ctx, tx, address)
			if err != nil {
				return err
			}
			s.Care = c
			text, err := json.Marshal(s)
			if err != nil {
				return err
			}
			if _, err := l.exec(ctx, tx, "UPDATE sites SET record = ? WHERE address = ?", string(text), address); err != nil {
				return err
			}
		}
		return nil
	})
}

// DropSite implements Ledger.
func (l *SQL) DropSite(ctx context.Context, address string) error {
	return l.inOne(ctx, func(ctx context.Context, tx runner) error {
		for _, table := range []string{"sites", "measures", "told"} {
			if _, err := l.exec(ctx, tx, "DELETE FROM "+table+" WHERE address = ?", address); err != nil {
				return err
			}
		}
		return nil
	})
}

// PutMeasure implements Ledger.
func (l *SQL) PutMeasure(ctx context.Context, m Measure) error {
	return l.try(ctx, func(ctx context.Context) error { return l.putMeasure(ctx, l.runner(), m) })
}

func (l *SQL) putMeasure(ctx context.Context, in runner, m Measure) error {
	_, err := l.exec(ctx, in, "INSERT INTO measures (address, day, bytes) VALUES (?, ?, ?) ON CONFLICT (address, day) DO "+
		"UPDATE SET bytes = excluded.bytes", m.Address, m.Day, m.Bytes)
	return err
}

// Measures implements Ledger.
func (l *SQL) Measures(ctx context.Context) ([]Measure, error) {
	return list(ctx, l, func(rows *sql.Rows) (m Measure, err error) {
		return m, rows.Scan(&m.Address, &m.Day, &m.Bytes)
	}, "SELECT address, day, bytes FROM measures ORDER BY address, day")
}
