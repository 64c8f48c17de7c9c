package team

import (
	"context"

	"github.com/jackc/pgx/v5"
)

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
