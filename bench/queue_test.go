//go:build bench

package bench

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/secret"
	"tivset/internal/testing/sitetest"
)

// The queue adds little to what is done: from being put there to being noted as ended, of
// many one after the other in one worker.
func TestQueueOverhead(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	l, err := team.Open(ctx, sitetest.Records(t), time.Now)
	require.NoError(t, err)
	defer l.Close()
	_, err = l.Begin(ctx, sitetest.Demo(t).Home, "wharfinger", &team.Belongings{}, secret.Of("00"))
	require.NoError(t, err)
	q, err := queue.Open(ctx, l)
	require.NoError(t, err)
	const orders = 200
	for n := range orders {
		_, err := q.Put(ctx, queue.Order{What: "backup", At: fmt.Sprint(n)}, 2, nil)
		require.NoError(t, err)
	}
	ended, done := make(chan struct{}, orders), make(chan error, 1)
	began := time.Now()
	go func() {
		done <- q.Work(ctx, &queue.Worker{ID: "one", AtOnce: 1, Lease: queue.UsualLease,
			Do: func(context.Context, int64, queue.Order) (queue.Result, *queue.Back) {
				ended <- struct{}{}
				return queue.Result{}, nil
			}, End: func(context.Context, int64, queue.Order) (queue.Ending, error) { return queue.Ending{}, nil },
			OnLeaseLost: func() {}})
	}()
	for range orders {
		<-ended
	}
	each := time.Since(began) / orders
	stop()
	require.NoError(t, <-done)
	fmt.Printf("an order of the queue, one after the other: %.1f ms each (limit 50)\n", float64(each.Microseconds())/1000)
	require.Less(t, each, 50*time.Millisecond)
}
