package team

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5"
)

// Slots takes one of so many slots of each of some names, which all machines of the team share, until done. Full names
// the first of which none is free; then none is taken. When this program ends, or its connection, it ends with it. Who
// is how others see whose they are.
func (t *Team) Slots(ctx context.Context, who string, of map[string]int) (done func(), full string, err error) {
	err = t.do(ctx, func(ctx context.Context) error {
		full = ""
		config := t.config.Copy()
		config.RuntimeParams["application_name"] = slotsOf + who
		conn, err := pgx.ConnectConfig(ctx, config)
		if err != nil {
			return err
		}
		for _, name := range slices.Sorted(maps.Keys(of)) {
			got, err := t.slot(ctx, conn, name, of[name])
			if err == nil && got {
				continue
			}
			_ = conn.Close(ctx) // with which all of them are free again
			full = name
			return err
		}
		done = func() {
			ctx, cancel := context.WithTimeout(context.Background(), connectTime)
			defer cancel()
			_, _ = conn.Exec(ctx, "SELECT pg_advisory_unlock_all()") // that the connection ended is heard a moment later
			_ = conn.Close(ctx)
		}
		return nil
	})
	return done, full, err
}

// slotsOf begins the name of a connection that holds slots (application_name in PostgreSQL's manual).
const slotsOf = "tivset: slots "

// FreeSlots ends the connections of holders of slots who are not among those that a query gives.
func (t *Team) FreeSlots(ctx context.Context, living string, args ...any) error {
	return t.exec(ctx, "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND "+
		"application_name LIKE '"+slotsOf+"%' AND application_name NOT IN (SELECT left('"+slotsOf+"' || id, 63) FROM ("+
		living+") AS living)", args...)
}

// slot takes one of so many.
func (t *Team) slot(ctx context.Context, conn *pgx.Conn, name string, most int) (bool, error) {
	for n := range most {
		got, err := take(ctx, conn, fmt.Sprintf("%s slot %s %d", t.schema, name, n))
		if got || err != nil {
			return got, err
		}
	}
	return false, nil
}
