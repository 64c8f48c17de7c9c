package ledger

import (
	"context"
	"database/sql"
	"time"

	"github.com/segmentio/encoding/json"
)

// RoundsFor is for how long rounds are listed, in days.
const RoundsFor = 60

// Round is a round that did something, on whichever machine.
type Round struct {
	At      time.Time   `json:"at"`
	Who     string      `json:"who"`
	Seconds float64     `json:"seconds"`
	Lines   []RoundLine `json:"lines"`
}

// RoundLine is something that a round did at a site, or met.
type RoundLine struct {
	Address string `json:"address"`
	What    string `json:"what"` // updated, backed up, checked, trouble, waits, due
	Detail  string `json:"detail"`
}

// Telling is a trouble of a site that somebody was told of.
type Telling struct {
	Address string
	Trouble string
	At      time.Time
}

// Rounds implements Ledger.
func (l *SQLite) Rounds(ctx context.Context) ([]Round, error) {
	return records[Round](ctx, l.db, "SELECT record FROM rounds ORDER BY at DESC")
}

// PutRound implements Ledger.
func (l *SQLite) PutRound(ctx context.Context, r Round) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return l.inOne(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "INSERT OR REPLACE INTO rounds (at, who, record) VALUES (?, ?, ?)",
			Moment(r.At), r.Who, string(text)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "DELETE FROM rounds WHERE at < ?", Moment(r.At.AddDate(0, 0, -RoundsFor)))
		return err
	})
}

// Moment is a time as text that sorts by time.
func Moment(at time.Time) string { return at.UTC().Format("2006-01-02T15:04:05.000000000Z") }

// Tell implements Ledger.
func (l *SQLite) Tell(ctx context.Context, t Telling, again time.Duration) (bool, error) {
	done, err := l.db.ExecContext(ctx, "INSERT INTO told (address, trouble, at) VALUES (?, ?, ?) ON CONFLICT (address, "+
		"trouble) DO UPDATE SET at = excluded.at WHERE told.at <= ?", t.Address, t.Trouble, Moment(t.At),
		Moment(t.At.Add(-again)))
	if err != nil {
		return false, told(err)
	}
	n, err := done.RowsAffected()
	return n > 0, err
}

// Told implements Ledger.
func (l *SQLite) Told(ctx context.Context) (out []Telling, err error) {
	rows, err := l.db.QueryContext(ctx, "SELECT address, trouble, at FROM told ORDER BY address, trouble")
	if err != nil {
		return nil, told(err)
	}
	defer rows.Close()
	for rows.Next() {
		var t Telling
		var at string
		if err := rows.Scan(&t.Address, &t.Trouble, &at); err != nil {
			return nil, err
		}
		if t.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	return out, told(rows.Err())
}

// Untell implements Ledger.
func (l *SQLite) Untell(ctx context.Context, address string, troubles ...string) error {
	return l.inOne(ctx, func(tx *sql.Tx) error {
		for _, trouble := range troubles {
			_, err := tx.ExecContext(ctx, "DELETE FROM told WHERE address = ? AND trouble = ?", address, trouble)
			if err != nil {
				return err
			}
		}
		return nil
	})
}
