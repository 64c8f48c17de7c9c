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
	Remedy  string `json:"remedy,omitempty"` // of a trouble: what to do
}

// Telling is a trouble of a site that somebody was told of.
type Telling struct {
	Address string
	Trouble string
	At      time.Time
}

// Rounds implements Ledger.
func (l *SQL) Rounds(ctx context.Context) ([]Round, error) {
	return records[Round](ctx, l, "", false, "SELECT at, record FROM rounds ORDER BY at DESC")
}

// PutRound implements Ledger.
func (l *SQL) PutRound(ctx context.Context, r Round) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	return l.inOne(ctx, func(ctx context.Context, in hand) error {
		if _, err := l.exec(ctx, in, "INSERT INTO rounds (at, who, record) VALUES (?, ?, ?) ON CONFLICT (at, who) DO UPDATE "+
			"SET record = excluded.record", Moment(r.At), r.Who, string(text)); err != nil {
			return err
		}
		_, err := l.exec(ctx, in, "DELETE FROM rounds WHERE at < ?", Moment(r.At.AddDate(0, 0, -RoundsFor)))
		return err
	})
}

// Tell implements Ledger.
func (l *SQL) Tell(ctx context.Context, t Telling, again time.Duration) (noted bool, err error) {
	err = l.try(ctx, func(ctx context.Context) error {
		n, err := l.exec(ctx, l.runner(), "INSERT INTO told (address, trouble, at) VALUES (?, ?, ?) ON CONFLICT (address, "+
			"trouble) DO UPDATE SET at = excluded.at WHERE told.at <= ?", t.Address, t.Trouble, Moment(t.At),
			Moment(t.At.Add(-again)))
		noted = n > 0
		return err
	})
	return noted, err
}

// Told implements Ledger.
func (l *SQL) Told(ctx context.Context) ([]Telling, error) {
	return list(ctx, l, func(rows *sql.Rows) (t Telling, err error) {
		var at string
		if err := rows.Scan(&t.Address, &t.Trouble, &at); err != nil {
			return t, err
		}
		t.At, err = time.Parse(time.RFC3339Nano, at)
		return t, err
	}, "SELECT address, trouble, at FROM told ORDER BY address, trouble")
}

// Untell implements Ledger.
func (l *SQL) Untell(ctx context.Context, address string, troubles ...string) error {
	return l.inOne(ctx, func(ctx context.Context, in hand) error {
		for _, trouble := range troubles {
			if _, err := l.exec(ctx, in, "DELETE FROM told WHERE address = ? AND trouble = ?", address, trouble); err != nil {
				return err
			}
		}
		return nil
	})
}
