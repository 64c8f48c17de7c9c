package queue

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
)

// clock is the database's, as this machine knows it: times of the queue are compared on many machines, whose own
// clocks differ. It is set by looking at the database, and goes on with this machine's until the next look.
type clock struct {
	pool *pgxpool.Pool

	mu    sync.Mutex
	there time.Time // by the database
	here  time.Time // when that was, by this machine, which counts on from there
}

// set looks at the database's clock.
func (c *clock) set(ctx context.Context) error {
	before := time.Now()
	var there time.Time
	if err := c.pool.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&there); err != nil {
		return err
	}
	took := time.Since(before)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.there, c.here = there.Add(took/2), before.Add(took)
	return nil
}

// Now implements rivertype.TimeGenerator.
func (c *clock) Now() time.Time {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.there.Add(time.Since(c.here))
}

// NowOrNil implements rivertype.TimeGenerator: where a statement is left to the database's clock it is the same one.
func (c *clock) NowOrNil() *time.Time { return nil }
