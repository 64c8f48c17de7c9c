package queue_test

import (
	"context"
	"errors"
	"net/url"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/home"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/secret"
	"tivset/internal/testing/servers"
	"tivset/internal/testing/sitetest"
)

var ctx = context.Background()

func opened(t *testing.T, at string) *team.Team {
	t.Helper()
	l, err := team.Open(ctx, at, time.Now)
	require.NoError(t, err)
	t.Cleanup(func() { go l.Close() }) // one whose line is cut waits
	return l
}

func begun(t *testing.T, at string) *team.Team {
	t.Helper()
	l := opened(t, at)
	key, err := l.Place(home.At(t.TempDir()), team.MayAll).Vault.PublicKey()
	require.NoError(t, err)
	require.NoError(t, l.Begin(ctx, team.Person{Name: "wharfinger", Key: key}, &team.Belongings{}, secret.Of("00")))
	return l
}

func queueOf(t *testing.T, l *team.Team) *queue.Queue {
	t.Helper()
	q, err := queue.Open(ctx, l)
	require.NoError(t, err)
	return q
}

// A worker that loses only the database, and reaches the accounts as before, ends before
// another one takes over what it had.
func TestAWorkerLosesTheDatabase(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	through, err := url.Parse(at)
	require.NoError(t, err)
	line := servers.NewLine(t, through.Host)
	through.Host = line.Address
	near := queueOf(t, begun(t, at))
	far := queueOf(t, opened(t, through.String()))

	const lease = 3 * time.Second
	took, gone, over := make(chan struct{}), make(chan time.Time, 10), make(chan time.Time, 1)
	var calls atomic.Int32
	go func() {
		_ = far.Work(ctx, &queue.Worker{ID: "far", AtOnce: 1, Lease: lease, Gone: func() { gone <- time.Now() },
			Do: func(context.Context, int64, queue.Order) (queue.Result, time.Duration) {
				close(took)
				time.Sleep(time.Minute) // a step that takes long
				return queue.Result{}, 0
			}, End: func(context.Context, int64) (bool, error) { return false, nil }, Stuck: func(int64, error) {}})
	}()
	n, err := near.Put(ctx, queue.Order{What: "update", At: "a"}, 2, nil)
	require.NoError(t, err)
	<-took
	line.Cut(true)
	within, stop := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() {
		done <- near.Work(within, &queue.Worker{ID: "near", AtOnce: 1, Lease: lease, Gone: func() { t.Error("it is well") },
			Do: func(context.Context, int64, queue.Order) (queue.Result, time.Duration) {
				calls.Add(1)
				return queue.Result{}, 0
			}, End: func(context.Context, int64) (bool, error) {
				over <- time.Now()
				return false, nil
			}})
	}()
	taken := <-over
	select {
	case ended := <-gone:
		assert.True(t, ended.Before(taken), "the one ends before the other goes on")
	case <-time.After(time.Second):
		t.Error("it goes on beside the other")
	}
	require.Eventually(t, func() bool {
		o, err := near.Get(ctx, n)
		return err == nil && o.State == "done"
	}, 20*time.Second, 50*time.Millisecond)
	assert.EqualValues(t, 1, calls.Load())
	stop()
	require.NoError(t, <-done)
}

// An order that cannot be taken over now, for its account does not answer, is in no other's
// way, and is tried again.
func TestAnOrderThatCannotBeTakenOver(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	l := begun(t, at)
	q := queueOf(t, l)
	var numbers []int64
	for _, at := range []string{"a", "b"} {
		n, err := q.Put(ctx, queue.Order{What: "update", At: at}, 2, nil)
		require.NoError(t, err)
		numbers = append(numbers, n)
	}
	_, err := l.Pool().Exec(ctx, "UPDATE river_job SET state = 'running', attempted_by = '{gone}', attempted_at = now()")
	require.NoError(t, err)
	var tried, stuck atomic.Int32
	within, stop := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() {
		done <- q.Work(within, &queue.Worker{ID: "one", AtOnce: 1, Lease: time.Second, Gone: func() {},
			Do: func(context.Context, int64, queue.Order) (queue.Result, time.Duration) { return queue.Result{}, 0 },
			End: func(_ context.Context, number int64) (bool, error) {
				if number == numbers[0] && tried.Add(1) < 3 {
					return false, errors.New("no answer")
				}
				return false, nil
			}, Stuck: func(int64, error) { stuck.Add(1) }})
	}()
	state := func(n int64) string {
		o, err := q.Get(ctx, n)
		require.NoError(t, err)
		return o.State
	}
	require.Eventually(t, func() bool { return state(numbers[1]) == "done" }, 10*time.Second, 50*time.Millisecond)
	assert.Equal(t, "running", state(numbers[0]))
	require.Eventually(t, func() bool { return state(numbers[0]) == "done" }, 20*time.Second, 50*time.Millisecond)
	assert.EqualValues(t, 2, stuck.Load())
	stop()
	require.NoError(t, <-done)
}

// Whoever opens the queue waits for nobody who looks at the workers meanwhile, as a take-over
// does that lasts; those who give signs of life would wait behind it.
func TestOpeningWaitsForNobody(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	queueOf(t, begun(t, at))
	l := opened(t, at)
	tx, err := l.Pool().Begin(ctx)
	require.NoError(t, err)
	defer func() { _ = tx.Rollback(ctx) }()
	_, err = tx.Exec(ctx, "SELECT FROM workers")
	require.NoError(t, err)
	within, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	_, err = queue.Open(within, opened(t, at))
	assert.NoError(t, err)
}

// An order at which the program itself fails is not begun again, and the worker goes on.
func TestAnOrderThatBreaksTheProgram(t *testing.T) {
	servers.Slow(t)
	q := queueOf(t, begun(t, sitetest.Records(t)))
	var numbers []int64
	for _, at := range []string{"a", "b"} {
		n, err := q.Put(ctx, queue.Order{What: "update", At: at}, 2, nil)
		require.NoError(t, err)
		numbers = append(numbers, n)
	}
	var begun, broke atomic.Int32
	within, stop := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() {
		done <- q.Work(within, &queue.Worker{ID: "one", AtOnce: 1, Lease: queue.UsualLease, Gone: func() {},
			Do: func(_ context.Context, n int64, _ queue.Order) (queue.Result, time.Duration) {
				begun.Add(1)
				if n == numbers[0] {
					panic("a mistake")
				}
				return queue.Result{}, 0
			}, Broke: func(context.Context, int64, any) queue.Result {
				broke.Add(1)
				return queue.Result{Code: 1}
			}, End: func(context.Context, int64) (bool, error) { return false, nil }})
	}()
	require.Eventually(t, func() bool {
		a, err := q.Get(ctx, numbers[0])
		require.NoError(t, err)
		b, err := q.Get(ctx, numbers[1])
		require.NoError(t, err)
		return a.State == "failed" && b.State == "done"
	}, 20*time.Second, 50*time.Millisecond)
	stop()
	require.NoError(t, <-done)
	assert.Equal(t, []int32{2, 1}, []int32{begun.Load(), broke.Load()})
}
