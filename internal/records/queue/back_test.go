package queue_test

import (
	"context"
	"errors"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/queue"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// working starts a worker, which ends with the test; ended gives how it did.
func working(t *testing.T, q *queue.Queue, w *queue.Worker) (ended chan error) {
	t.Helper()
	within, stop := context.WithCancel(ctx)
	ended = make(chan error, 1)
	w.Lease, w.OnLeaseLost = 20*time.Second, func() {}
	w.End = func(context.Context, int64, queue.Order) (queue.Ending, error) { return queue.Ending{}, nil }
	go func() { ended <- q.Work(within, w) }()
	t.Cleanup(stop)
	return ended
}

func becomes(t *testing.T, q *queue.Queue, n int64, state string) (o queue.Listed) {
	t.Helper()
	require.Eventually(t, func() bool {
		var err error
		o, err = q.Get(ctx, n)
		return err == nil && o.State == state
	}, 3*time.Minute, 50*time.Millisecond, state) // three workers, one after the other, on a busy machine
	return o
}

// What a worker lacks is no failure of the order: another one carries it out, and people see what the first lacks.
func TestAWorkerThatLacksSomething(t *testing.T) {
	servers.Slow(t)
	l, _ := begun(t, sitetest.Records(t))
	q := queueOf(t, l)
	var tries atomic.Int32
	working(t, q, &queue.Worker{ID: "without", AtOnce: 1, Do: func(_ context.Context, n int64,
		_ queue.Order) (queue.Result,
		*queue.Back) {
		tries.Add(1)
		return queue.Result{}, &queue.Back{After: time.Second, Why: "no app is called slateroom",
			Lacks: queue.Lack{Number: n}}
	}})
	n, err := q.Put(ctx, queue.Order{What: "update", At: "a"}, 2, nil)
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		o, err := q.Get(ctx, n)
		return err == nil && o.Why != ""
	}, 10*time.Second, 20*time.Millisecond)
	o, err := q.Get(ctx, n)
	require.NoError(t, err)
	assert.Equal(t, "waiting", o.State)
	assert.Contains(t, o.Why, "slateroom")
	require.NotNil(t, o.Until)
	assert.WithinDuration(t, time.Now(), *o.Until, 15*time.Second)
	workers, err := q.Workers(ctx)
	require.NoError(t, err)
	require.Len(t, workers, 1)
	assert.Equal(t, map[string]string{"number " + "1": "no app is called slateroom"}, workers[0].Lacks)
	working(t, q, &queue.Worker{ID: "with", AtOnce: 1, Do: func(context.Context, int64, queue.Order) (queue.Result,
		*queue.Back) {
		return queue.Result{}, nil
	}})
	o = becomes(t, q, n, "done")
	assert.Equal(t, "with", o.Worker)
	assert.EqualValues(t, 1, tries.Load(), "the first one tried once")
}

// What three workers give back waits for people, and is tried again when they say so.
func TestWhatWaitsForPeople(t *testing.T) {
	servers.Slow(t)
	l, _ := begun(t, sitetest.Records(t))
	q := queueOf(t, l)
	n, err := q.Put(ctx, queue.Order{What: "update", At: "a"}, 2, nil)
	require.NoError(t, err)
	for _, id := range []string{"one", "two", "three"} { // one after the other: who is the first each time is chance
		gave := make(chan struct{}, 100)
		ended := working(t, q, &queue.Worker{ID: id, AtOnce: 1, Do: func(context.Context, int64, queue.Order) (queue.Result,
			*queue.Back) {
			gave <- struct{}{}
			useless := errors.New("no such key")
			return queue.Result{}, &queue.Back{Why: useless.Error(), Useless: useless}
		}})
		<-gave
		require.ErrorContains(t, <-ended, "no such key")
	}
	o := becomes(t, q, n, "stuck")
	assert.Contains(t, o.Why, "no such key")
	working(t, q, &queue.Worker{ID: "four", AtOnce: 1, Do: func(context.Context, int64, queue.Order) (queue.Result,
		*queue.Back) {
		return queue.Result{}, nil
	}})
	again, err := q.Retry(ctx, o, "wharfinger", 0, 2)
	require.NoError(t, err)
	assert.Equal(t, n, again)
	becomes(t, q, n, "done")
}

// A worker that lacks something for everything, such as being of the team, gives back what it has and ends.
func TestAUselessWorkerEnds(t *testing.T) {
	servers.Slow(t)
	l, _ := begun(t, sitetest.Records(t))
	q := queueOf(t, l)
	var numbers []int64
	for _, at := range []string{"a", "b", "c", "d"} {
		n, err := q.Put(ctx, queue.Order{What: "update", At: at}, 2, nil)
		require.NoError(t, err)
		numbers = append(numbers, n)
	}
	why := errors.New("this machine is not of the team")
	ended := working(t, q, &queue.Worker{ID: "removed", AtOnce: 1, Do: func(context.Context, int64,
		queue.Order) (queue.Result, *queue.Back) {
		return queue.Result{}, &queue.Back{Why: why.Error(), Useless: why}
	}})
	assert.ErrorIs(t, <-ended, why)
	for _, n := range numbers {
		o, err := q.Get(ctx, n)
		require.NoError(t, err)
		assert.Equal(t, "waiting", o.State)
	}
	working(t, q, &queue.Worker{ID: "other", AtOnce: 1, Do: func(context.Context, int64, queue.Order) (queue.Result,
		*queue.Back) {
		return queue.Result{}, nil
	}})
	for _, n := range numbers {
		becomes(t, q, n, "done")
	}
}

// Limits hold across machines, and a machine that is gone holds nothing.
func TestRoom(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	l, w := begun(t, at)
	one, two := queueOf(t, l), queueOf(t, w.again(t, at))
	limits := map[string]int{"account quillmere": 3, "host a": 2}
	first, full, err := one.Room(ctx, "one", limits)
	require.NoError(t, err)
	require.Empty(t, full)
	second, full, err := two.Room(ctx, "two", limits)
	require.NoError(t, err)
	require.Empty(t, full)
	_, full, err = two.Room(ctx, "two", limits)
	require.NoError(t, err)
	assert.Equal(t, "host a", full)
	_, full, err = one.Room(ctx, "one", map[string]int{"account quillmere": 3})
	require.NoError(t, err)
	assert.Empty(t, full, "what was not entered holds nothing")
	first()
	third, full, err := two.Room(ctx, "gone", limits)
	require.NoError(t, err)
	assert.Empty(t, full)
	second()
	require.NoError(t, l.FreeSlots(ctx, "SELECT 'two' AS id"))
	_, full, err = one.Room(ctx, "one", map[string]int{"host a": 1})
	require.NoError(t, err)
	assert.Empty(t, full, "that of a worker that is gone is free")
	third()
}

// Of a batch it is told once, when all of it has ended; what failed of it is put there again together.
func TestBatches(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	l, w := begun(t, at)
	q := queueOf(t, l)
	together, err := q.NewBatch(ctx)
	require.NoError(t, err)
	for _, place := range []string{"a", "b", "c", "d", "e"} {
		_, err := q.Put(ctx, queue.Order{What: "update", At: place, Tell: "w@lockside.localhost", Batch: together}, 2, nil)
		require.NoError(t, err)
	}
	told, single := make(chan queue.Ended, 10), make(chan int64, 10)
	for _, id := range []string{"one", "two"} {
		working(t, queueOf(t, w.again(t, at)), &queue.Worker{ID: id, AtOnce: 2,
			Do: func(_ context.Context, n int64, o queue.Order) (queue.Result, *queue.Back) {
				if o.At == "b" && o.Batch == together {
					return queue.Result{Code: 1}, nil
				}
				return queue.Result{}, nil
			},
			Ended:      func(_ context.Context, n int64, _ queue.Order, _ queue.Result) { single <- n },
			BatchEnded: func(_ context.Context, b queue.Ended) { told <- b }})
	}
	b := <-told
	assert.Equal(t, together, b.Number)
	assert.Equal(t, "w@lockside.localhost", b.Tell)
	assert.Len(t, b.Orders, 5)
	all, err := q.Of(ctx, together)
	require.NoError(t, err)
	for _, o := range all {
		if o.At != "b" {
			assert.Equal(t, "done", o.State)
			_, err := q.Retry(ctx, o, "x", 0, 2)
			assert.ErrorContains(t, err, "only what failed")
			continue
		}
		assert.Equal(t, "failed", o.State)
		n, err := q.Retry(ctx, o, "wharfinger", 0, 2)
		require.NoError(t, err)
		assert.Equal(t, "wharfinger", becomes(t, q, n, "done").Who)
		assert.Equal(t, n, <-single)
	}
	assert.Empty(t, told, "once")
	_, err = q.Of(ctx, 4711)
	assert.ErrorContains(t, err, "no request has this number")
}
