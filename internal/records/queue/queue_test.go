package queue_test

import (
	"context"
	"errors"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/home"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/secret"
	"tivset/internal/testing/line"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

var ctx = context.Background()

func opened(t *testing.T, at string) *team.Team {
	t.Helper()
	l, err := team.Open(ctx, at, time.Now)
	require.NoError(t, err)
	t.Cleanup(func() { go l.Close() }) // one whose line is cut waits
	return l
}

// where is the machine of a test, and its team.
type where struct {
	at, founded string
	home        home.Home
}

// begun is a team's ledger, and the machine that began it.
func begun(t *testing.T, at string) (*team.Team, where) {
	t.Helper()
	l, h := opened(t, at), home.At(t.TempDir())
	founded, err := l.Begin(ctx, h, "wharfinger", &team.Belongings{}, secret.Of("00"))
	require.NoError(t, err)
	return l, where{at, founded, h}
}

// again is another program of that machine.
func (w where) again(t *testing.T, at string) *team.Team {
	t.Helper()
	l := opened(t, at)
	_, err := l.Enter(ctx, w.home, w.founded)
	require.NoError(t, err)
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
	cut := line.New(t, through.Host)
	through.Host = cut.Address
	l, w := begun(t, at)
	near, far := queueOf(t, l), queueOf(t, w.again(t, through.String()))

	const lease = 3 * time.Second
	took, gone, over := make(chan struct{}), make(chan time.Time, 10), make(chan time.Time, 1)
	var calls atomic.Int32
	go func() {
		_ = far.Work(ctx, &queue.Worker{ID: "far", AtOnce: 1, Lease: lease, OnLeaseLost: func() { gone <- time.Now() },
			Do: func(context.Context, int64, queue.Order) (queue.Result, *queue.Back) {
				close(took)
				time.Sleep(time.Minute) // a step that takes long
				return queue.Result{}, nil
			}, End: func(context.Context, int64, queue.Order) (queue.Ending, error) { return queue.Ending{}, nil },
			Stuck: func(int64, error) {}})
	}()
	n, err := near.Put(ctx, queue.Order{What: "update", At: "a"}, 2, nil)
	require.NoError(t, err)
	<-took
	cut.Cut(true)
	within, stop := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() {
		done <- near.Work(within, &queue.Worker{ID: "near", AtOnce: 1, Lease: lease,
			OnLeaseLost: func() { t.Error("it is well") },
			Do: func(context.Context, int64, queue.Order) (queue.Result, *queue.Back) {
				calls.Add(1)
				return queue.Result{}, nil
			}, End: func(context.Context, int64, queue.Order) (queue.Ending, error) {
				over <- time.Now()
				return queue.Ending{}, nil
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
	l, _ := begun(t, at)
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
		done <- q.Work(within, &queue.Worker{ID: "one", AtOnce: 1, Lease: time.Second, OnLeaseLost: func() {},
			Do: func(context.Context, int64, queue.Order) (queue.Result, *queue.Back) { return queue.Result{}, nil },
			End: func(_ context.Context, number int64, _ queue.Order) (queue.Ending, error) {
				if number == numbers[0] && tried.Add(1) < 3 {
					return queue.Ending{}, errors.New("no answer")
				}
				return queue.Ending{}, nil
			}, Stuck: func(int64, error) { stuck.Add(1) }})
	}()
	state := func(n int64) string {
		o, err := q.Get(ctx, n)
		require.NoError(t, err)
		return o.State
	}
	require.Eventually(t, func() bool { return state(numbers[1]) == "done" }, 10*time.Second, 50*time.Millisecond)
	assert.Equal(t, "waiting", state(numbers[0]))
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
	first, w := begun(t, at)
	queueOf(t, first)
	l := w.again(t, at)
	tx, err := l.Pool().Begin(ctx)
	require.NoError(t, err)
	defer func() { _ = tx.Rollback(ctx) }()
	_, err = tx.Exec(ctx, "SELECT FROM workers")
	require.NoError(t, err)
	within, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	_, err = queue.Open(within, w.again(t, at))
	assert.NoError(t, err)
}

// An order at which the program itself fails is not begun again, and the worker goes on.
func TestAnOrderThatBreaksTheProgram(t *testing.T) {
	servers.Slow(t)
	first, _ := begun(t, sitetest.Records(t))
	q := queueOf(t, first)
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
		done <- q.Work(within, &queue.Worker{ID: "one", AtOnce: 1, Lease: queue.UsualLease, OnLeaseLost: func() {},
			Do: func(_ context.Context, n int64, _ queue.Order) (queue.Result, *queue.Back) {
				begun.Add(1)
				if n == numbers[0] {
					panic("a mistake")
				}
				return queue.Result{}, nil
			}, OnPanic: func(context.Context, int64, any) queue.Result {
				broke.Add(1)
				return queue.Result{Code: 1}
			}, End: func(context.Context, int64, queue.Order) (queue.Ending, error) { return queue.Ending{}, nil }})
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

// lease is short, so that tests need not wait.
const lease = time.Second

// worker is one that does nothing with orders but what a test says.
func worker(id string) *queue.Worker {
	return &queue.Worker{ID: id, AtOnce: 1, Lease: lease, OnLeaseLost: func() {},
		Do:  func(context.Context, int64, queue.Order) (queue.Result, *queue.Back) { return queue.Result{}, nil },
		End: func(context.Context, int64, queue.Order) (queue.Ending, error) { return queue.Ending{}, nil }}
}

// works has a worker work until the test, or the returned function, ends it.
func works(t *testing.T, q *queue.Queue, w *queue.Worker) (stop func()) {
	t.Helper()
	within, cancel := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() { done <- q.Work(within, w) }()
	stop = sync.OnceFunc(func() {
		cancel()
		require.NoError(t, <-done)
	})
	t.Cleanup(stop)
	return stop
}

func ends(t *testing.T, q *queue.Queue, n int64) (o queue.Listed) {
	t.Helper()
	require.Eventually(t, func() bool {
		var err error
		o, err = q.Get(ctx, n)
		require.NoError(t, err)
		return o.Ended != nil
	}, 20*time.Second, 20*time.Millisecond)
	return o
}

// How an order ended is on record before anybody hears it and before its files go: a worker that dies in
// between leaves neither an order that is begun anew without its files, nor one that nobody hears of.
func TestTheEndIsOnRecordBeforeItIsTold(t *testing.T) {
	servers.Slow(t)
	l, _ := begun(t, sitetest.Records(t))
	q := queueOf(t, l)
	file := func(add func(int, []byte) error) error { return add(0, []byte("sealed")) }
	n, err := q.Put(ctx, queue.Order{What: "restore", At: "a", Tell: "wharfinger@lockside.localhost"}, 2, file)
	require.NoError(t, err)
	w := worker("one")
	w.Do = func(context.Context, int64, queue.Order) (queue.Result, *queue.Back) {
		return queue.Result{Code: 1}, nil
	}
	told := make(chan queue.Listed, 10)
	w.Ended = func(ctx context.Context, n int64, _ queue.Order, _ queue.Result) {
		o, err := q.Get(ctx, n)
		assert.NoError(t, err)
		told <- o
	}
	stop := works(t, q, w)
	heard := <-told
	assert.Equal(t, "failed", heard.State)
	require.NotNil(t, heard.Ended)
	stop()
	var kind string
	require.NoError(t, l.Pool().QueryRow(ctx, "SELECT state FROM river_job WHERE id = $1", n).Scan(&kind))
	assert.Equal(t, "discarded", kind, "a failure is one for the library too")
	var files int
	require.NoError(t, l.Pool().QueryRow(ctx, "SELECT count(*) FROM order_files").Scan(&files))
	assert.Zero(t, files)

	require.Eventually(t, func() bool { // that it was told is noted after it was
		var noted bool
		err := l.Pool().QueryRow(ctx, "SELECT metadata ? 'told' FROM river_job WHERE id = $1", n).Scan(&noted)
		return err == nil && noted
	}, time.Minute, 20*time.Millisecond)

	// The worker died when it was about to tell.
	_, err = l.Pool().Exec(ctx, `UPDATE river_job SET metadata = metadata - 'told' || '{"telling": "one"}'`)
	require.NoError(t, err)
	other := worker("two")
	other.Ended = w.Ended
	stop = works(t, q, other)
	assert.Equal(t, n, (<-told).Number, "another one tells")
	stop()
	stop = works(t, q, func() *queue.Worker { again := worker("three"); again.Ended = w.Ended; return again }())
	time.Sleep(lease)
	stop()
	assert.Empty(t, told, "once")
}

// While what a dead worker had begun is undone, which may take long, nothing in the database waits for that;
// and when the one that does it dies too, it is another's turn.
func TestTakingOverHoldsNothingUp(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	l, _ := begun(t, at)
	q := queueOf(t, l)
	n, err := q.Put(ctx, queue.Order{What: "update", At: "a"}, 2, nil)
	require.NoError(t, err)
	_, err = l.Pool().Exec(ctx, "UPDATE river_job SET state = 'running', attempted_by = '{gone}', attempted_at = now()")
	require.NoError(t, err)
	undoes, goOn := make(chan queue.Order), make(chan struct{})
	w := worker("one")
	w.End = func(_ context.Context, _ int64, o queue.Order) (queue.Ending, error) {
		undoes <- o
		<-goOn
		return queue.Ending{Over: true, Result: queue.Result{Code: 4}}, nil
	}
	works(t, q, w)
	assert.Equal(t, "update", (<-undoes).What, "it is said what the order is")
	var open int
	require.NoError(t, l.Pool().QueryRow(ctx,
		"SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND "+
			"state LIKE 'idle in transaction%'").Scan(&open))
	assert.Zero(t, open)
	o, err := q.Get(ctx, n)
	require.NoError(t, err)
	assert.Equal(t, []string{"running", "one"}, []string{o.State, o.Worker})
	close(goOn)
	o = ends(t, q, n)
	assert.Equal(t, "failed", o.State, "an order that was given up is not done")
	require.NotNil(t, o.Result)
	assert.Equal(t, 4, o.Result.Code)
}

// Orders can be looked up for as long as rounds.
func TestOrdersAreKept(t *testing.T) {
	assert.Equal(t, 60*24*time.Hour, queue.KeptFor)
	servers.Slow(t)
	l, _ := begun(t, sitetest.Records(t))
	q := queueOf(t, l)
	old, err := q.Put(ctx, queue.Order{What: "update", At: "a"}, 2, nil)
	require.NoError(t, err)
	kept, err := q.Put(ctx, queue.Order{What: "update", At: "b"}, 2, nil)
	require.NoError(t, err)
	for n, days := range map[int64]int{old: 61, kept: 59} {
		_, err = l.Pool().Exec(ctx,
			"UPDATE river_job SET state = 'completed', finalized_at = now() - make_interval(days => $2) "+
				"WHERE id = $1", n, days)
		require.NoError(t, err)
	}
	works(t, q, worker("one"))
	require.Eventually(t, func() bool {
		_, err := q.Get(ctx, old)
		return err != nil
	}, 40*time.Second, 100*time.Millisecond)
	_, err = q.Get(ctx, kept)
	assert.NoError(t, err)
}

// With a user of the database of their own, who may look sees the queue, who may request puts something there, and who
// may operate carries it out; and none of them can more.
func TestRightsOfTheQueue(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	l, w := begun(t, at)
	first := queueOf(t, l)
	as := map[trust.Role]*queue.Queue{}
	for _, may := range trust.Roles[:3] {
		text, err := l.Grants(ctx, string(may), may)
		require.NoError(t, err)
		for _, statement := range strings.Split(strings.ReplaceAll(text, "'PASSWORD'", "'own'"), ";\n") {
			_, err := l.Pool().Exec(ctx, statement)
			require.NoError(t, err, statement)
		}
		h := home.At(t.TempDir())
		me, err := team.Me(h)
		require.NoError(t, err)
		me.Name, me.May = string(may), may
		require.NoError(t, l.Join(ctx, me, l.Place(w.home).Vault))
		own, err := url.Parse(at)
		require.NoError(t, err)
		own.User = url.UserPassword(string(may), "own")
		member := opened(t, own.String())
		_, err = member.Enter(ctx, h, w.founded)
		require.NoError(t, err)
		as[may] = queueOf(t, member)
	}
	_, err := as[trust.Look].Put(ctx, queue.Order{What: "update", At: "a"}, 2, nil)
	assert.Equal(t, fault.MayOnlyLook, fault.CodeOf(err), "%v", err)
	n, err := as[trust.Request].Put(ctx, queue.Order{What: "update", At: "a"}, 2, nil)
	require.NoError(t, err)
	all, err := as[trust.Look].List(ctx, 10)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "waiting", all[0].State)
	working(t, as[trust.Operate], &queue.Worker{ID: "own", AtOnce: 1, Do: func(context.Context, int64,
		queue.Order) (queue.Result, *queue.Back) {
		return queue.Result{}, nil
	}})
	becomes(t, first, n, "done")
	_, err = as[trust.Look].Cancel(ctx, n)
	assert.Error(t, err)
}
