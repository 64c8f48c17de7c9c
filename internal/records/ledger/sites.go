package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"time"

	"github.com/segmentio/encoding/json"

	"tivset/internal/answer/care"
	"tivset/internal/records/trust"
)

// Sites implements Ledger.
func (l *SQL) Sites(ctx context.Context) ([]Site, error) {
	return records[Site](ctx, l, trust.OfSite, true, "SELECT address, record FROM sites ORDER BY address")
}

// Addresses implements Ledger.
func (l *SQL) Addresses(ctx context.Context) ([]string, error) {
	out := []string{}
	err := l.view(ctx, func(ctx context.Context, in hand) error {
		out = out[:0]
		if err := l.rows(ctx, in, func(rows *sql.Rows) error {
			var address string
			err := rows.Scan(&address)
			out = append(out, address)
			return err
		}, "SELECT address FROM sites ORDER BY address"); err != nil {
			return err
		}
		return in.Whole(trust.OfSite, "", out)
	})
	return out, err
}

// Site implements Ledger.
func (l *SQL) Site(ctx context.Context, address string) (Site, error) {
	return record[Site](ctx, l, trust.OfSite, address, "no site is recorded at "+address,
		"SELECT record FROM sites WHERE address = ?")
}

// PutSite implements Ledger.
func (l *SQL) PutSite(ctx context.Context, s Site) error {
	return l.inOne(ctx, func(ctx context.Context, in hand) error { return l.putSite(ctx, in, s, "") })
}

// KeepSite implements Ledger.
func (l *SQL) KeepSite(ctx context.Context, s Site) error {
	return l.inOne(ctx, func(ctx context.Context, in hand) error {
		now, err := l.locked(ctx, in, s.Address)
		switch {
		case err == nil:
			s.Care, s.Labels = now.Care, now.Labels
		case !errors.Is(err, fs.ErrNotExist):
			return err
		}
		return l.putSite(ctx, in, s, "")
	})
}

// locked reads a site that nobody else changes until the transaction ends: in a file nobody else is in one.
func (l *SQL) locked(ctx context.Context, in hand, address string) (s Site, err error) {
	query := "SELECT record FROM sites WHERE address = ?"
	if l.numbered {
		query += " FOR UPDATE"
	}
	text, err := l.text(ctx, in, trust.OfSite, address, query)
	switch {
	case err != nil:
		return s, err
	case text == nil:
		return s, fmt.Errorf("no site is recorded at %s: %w", address, fs.ErrNotExist)
	}
	if err := json.Unmarshal(text, &s); err != nil {
		return s, errors.Join(errRecord, err)
	}
	return s, nil
}

// putSite keeps a site, and with it what it takes on that day.
func (l *SQL) putSite(ctx context.Context, in hand, s Site, note string) error {
	if err := l.putIn(ctx, in, trust.What{Kind: trust.OfSite, Key: s.Address, Note: note}, "INSERT INTO sites (address, "+
		"account, record) VALUES (?, ?, ?) ON CONFLICT (address) DO UPDATE SET account = excluded.account, "+
		"record = excluded.record", s, s.Address, s.Account); err != nil {
		return err
	}
	m, is := Measured(s)
	if !is {
		return nil
	}
	if err := l.putMeasure(ctx, in, m); err != nil {
		return err
	}
	day, err := time.Parse(time.DateOnly, m.Day)
	if err != nil {
		return err
	}
	_, err = l.exec(ctx, in, "DELETE FROM measures WHERE address = ? AND day < ?", m.Address,
		day.AddDate(0, 0, -MeasuredFor).Format(time.DateOnly))
	return err
}

// Entrust implements Ledger.
func (l *SQL) Entrust(ctx context.Context, decided map[string]care.Care) error {
	return edit(ctx, l, decided, "care", func(s *Site, c care.Care) { s.Care = c })
}

// Label implements Ledger.
func (l *SQL) Label(ctx context.Context, labels map[string]map[string]string) error {
	return edit(ctx, l, labels, "labels", func(s *Site, said map[string]string) {
		if s.Labels == nil {
			s.Labels = map[string]string{}
		}
		maps.Copy(s.Labels, said)
		maps.DeleteFunc(s.Labels, func(_, is string) bool { return is == "" })
	})
}

// edit changes something of sites, by their addresses: of all or of none.
func edit[T any](ctx context.Context, l *SQL, all map[string]T, note string, change func(*Site, T)) error {
	return l.inOne(ctx, func(ctx context.Context, in hand) error {
		for address, to := range all {
			s, err := l.locked(ctx, in, address)
			if err != nil {
				return err
			}
			change(&s, to)
			if err := l.putSite(ctx, in, s, note); err != nil {
				return err
			}
		}
		return nil
	})
}

// DropSite implements Ledger.
func (l *SQL) DropSite(ctx context.Context, address string) error {
	return l.inOne(ctx, func(ctx context.Context, in hand) error {
		for _, table := range []string{"measures", "told", "sites"} {
			n, err := l.exec(ctx, in, "DELETE FROM "+table+" WHERE address = ?", address)
			if err != nil {
				return err
			}
			if n > 0 && table == "sites" {
				return in.Note(trust.What{Kind: trust.OfSite, Key: address, Note: "forgotten"})
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
