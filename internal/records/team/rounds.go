package team

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"tivset/internal/records/ledger"
)

// Rounds implements ledger.Ledger.
func (t *Team) Rounds(ctx context.Context) ([]ledger.Round, error) {
	return records[ledger.Round](ctx, t, "SELECT record FROM rounds ORDER BY at DESC")
}

// PutRound implements ledger.Ledger.
func (t *Team) PutRound(ctx context.Context, r ledger.Round) error {
	return t.inOne(ctx, func(ctx context.Context, tx pgx.Tx) error { return putRound(ctx, tx, r) })
}

func putRound(ctx context.Context, tx pgx.Tx, r ledger.Round) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, "INSERT INTO rounds (at, who, record) VALUES ($1, $2, $3) ON CONFLICT (at, who) DO "+
		"UPDATE SET record = excluded.record", ledger.Moment(r.At), r.Who, text); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, "DELETE FROM rounds WHERE at < $1", ledger.Moment(r.At.AddDate(0, 0, -ledger.RoundsFor)))
	return err
}

const tell = "INSERT INTO told (address, trouble, at) VALUES ($1, $2, $3) ON CONFLICT (address, trouble) DO UPDATE " +
	"SET at = excluded.at WHERE told.at <= $4"

// Tell implements ledger.Ledger.
func (t *Team) Tell(ctx context.Context, one ledger.Telling, again time.Duration) (noted bool, err error) {
	err = t.do(ctx, func(ctx context.Context) error {
		done, err := t.pool.Exec(
			ctx,
			tell,
			one.Address,
			one.Trouble,
			ledger.Moment(one.At),
			ledger.Moment(one.At.Add(-again)),
		)
		noted = done.RowsAffected() > 0
		return err
	})
	return noted, err
}

// Told implements ledger.Ledger.
func (t *Team) Told(ctx context.Context) ([]ledger.Telling, error) {
	return list(ctx, t, func(row pgx.CollectableRow) (one ledger.Telling, err error) {
		var at string
		if err := row.Scan(&one.Address, &one.Trouble, &at); err != nil {
			return one, err
		}
		one.At, err = time.Parse(time.RFC3339Nano, at)
		return one, err
	}, "SELECT address, trouble, at FROM told ORDER BY address, trouble")
}

// Untell implements ledger.Ledger.
func (t *Team) Untell(ctx context.Context, address string, troubles ...string) error {
	return t.exec(ctx, "DELETE FROM told WHERE address = $1 AND trouble = ANY($2)", address, troubles)
}

// Sole holds off others of the team, on whatever machine, that do the same until done; done is
// nil while another one is at it. When this program ends, or its connection, it ends with it.
func (t *Team) Sole(ctx context.Context, what string) (done func(), err error) {
	key := t.schema + " sole " + what
	err = t.do(ctx, func(ctx context.Context) error {
		conn, err := pgx.ConnectConfig(ctx, t.config.Copy())
		if err != nil {
			return err
		}
		got, err := take(ctx, conn, key)
		if err != nil || !got {
			_ = conn.Close(ctx)
			return err
		}
		done = func() { letGo(conn, key) }
		return nil
	})
	return done, err
}
