package orders

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/records/queue"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work"
	"tivset/internal/work/batch"
)

// An order whose worker is gone is over when what it was for is done. Neither the copy of a rehearsal
// is that, nor the first of all that was due, nor a job that somebody gave up.
func TestEndOf(t *testing.T) {
	w := sitetest.Demo(t)
	a := &Carrier{Service: func(context.Context, int64, string) (*work.Service, func(), error) {
		return w.Desk,
			func() {}, nil
	},
		Result: func(_ batch.Ended, err error) queue.Result { return queue.Result{Code: int(fault.Of(err).Kind)} }}
	now := time.Now()
	for n, c := range []struct {
		order   string
		job, at string
		became  ledger.Outcome
		over    bool
		code    int
	}{
		{"install", "install", "lockside.localhost/x", ledger.Done, true, 0},
		{"install", "install", "lockside.localhost/x", ledger.Undone, false, 0},
		{"install", "install", "lockside.localhost/x", ledger.GivenUp, true, int(fault.Incomplete)},
		{"update", "copy", "lockside.localhost/rehearsal-0123456789abcdef", ledger.Done, false, 0},
		{"update", "update", "lockside.localhost/rehearsal-0123456789abcdef", ledger.Done, false, 0},
		{"rounds", "backup", "lockside.localhost/x", ledger.Done, false, 0},
		{"rounds", "update", "lockside.localhost/x", ledger.GivenUp, false, 0},
		{"check", "repair", "lockside.localhost/x", ledger.Done, false, 0},
	} {
		number := int64(n + 1)
		require.NoError(t, w.Book.Ledger.PutJob(context.Background(), ledger.Job{ID: fmt.Sprintf("20261123-080000-aaa%d", n),
			Order: number, What: c.job, Address: c.at, Outcome: c.became, Started: now, Ended: &now}))
		ending, err := a.End(context.Background(), number, queue.Order{What: c.order})
		require.NoError(t, err)
		assert.Equal(t, c.over, ending.Over, "%v", c)
		assert.Equal(t, c.code, ending.Result.Code, "%v", c)
	}
}
