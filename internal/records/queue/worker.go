package queue

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"
)

// UsualLease is the usual value of Worker.Lease.
const UsualLease = 20 * time.Second

// Worker takes orders from the queue and carries them out.
type Worker struct {
	ID     string
	AtOnce int
	Lease  time.Duration // for how long one that gives no sign of life still has what it took; of all workers the same

	// Accounts are those for which it works; nil for all but those that others work for.
	Accounts []string

	// Refused says what came of an order that is not carried out, for nobody who may put it there, or it was already.
	// One that was only not looked at, for the team cannot be reached, is put back.
	Refused func(number int64, o Order, why error) (result Result, back *Back)

	// Do carries an order out, or says why it is put back.
	Do func(ctx context.Context, number int64, o Order) (result Result, back *Back)

	// OnPanic says what came of an order at which the program itself failed, once what was begun
	// of it is ended. It is not begun again: it would fail in the same way, on every machine.
	OnPanic func(ctx context.Context, number int64, why any) Result

	// End ends what a worker that is gone had begun of an order, and says what is to become
	// of the order.
	End func(ctx context.Context, number int64, o Order) (Ending, error)

	// OnLeaseLost is called when this worker was away for nearly as long as its lease, or could not
	// reach the database: others have what it had, or will. It must end what it is at, and not
	// say how that ended. It does not come back.
	OnLeaseLost func()

	// Ended hears how an order ended, once that is on record; also one of a worker that is
	// gone. It hears it again if this worker dies while it does. May be nil.
	Ended func(ctx context.Context, number int64, o Order, result Result)

	// BatchEnded hears that all orders of a batch have ended, likewise. May be nil.
	BatchEnded func(ctx context.Context, b Ended)

	// Stuck hears that an order of a worker that is gone could not be taken over. It is tried
	// again. May be nil.
	Stuck func(number int64, err error)

	// Told hears what goes on; may be nil.
	Told func(what string, number int64, o Order)

	queue *Queue
	lacks lacks
	stop  context.CancelCauseFunc // has it take no more
	lost  atomic.Bool
	seen  atomic.Pointer[time.Time] // before its last sign of life, by this machine's clock
}

// Ending is what is to become of an order whose worker is gone.
type Ending struct {
	Over   bool // it is not put back on the queue, for all of it is done, or it cannot be
	Result Result
}

// orders makes the worker known to the library.
type orders struct {
	river.WorkerDefaults[Order]
	of *Worker
}

// Timeout implements river.Worker: an order takes as long as it takes.
func (orders) Timeout(*river.Job[Order]) time.Duration { return -1 }

// Work implements river.Worker.
func (w orders) Work(ctx context.Context, job *river.Job[Order]) error {
	w.of.tell("took", job.ID, job.Args)
	result, back := w.of.do(ctx, job.ID, job.Args)
	if !w.of.alive() {
		w.of.OnLeaseLost()
	}
	if back != nil && ctx.Err() == nil {
		return w.of.putBack(ctx, job.ID, job.Args, *back)
	}
	w.of.tell("ended", job.ID, job.Args)
	result.Worker = w.of.ID
	output, err := w.of.queue.end(ctx, job.ID, job.Args, result)
	if err != nil {
		return err
	}
	switch err := river.RecordOutput(ctx, output); {
	case err != nil || result.Code == 0:
		return err
	case ctx.Err() != nil:
		return river.JobCancel(ctx.Err())
	}
	return errFailed
}

// errFailed is what the library is told of an order that failed; why is in its result.
var errFailed = errors.New("it failed")

// do carries an order out.
func (w *Worker) do(ctx context.Context, number int64, o Order) (result Result, back *Back) {
	defer func() {
		if why := recover(); why != nil {
			result, back = w.OnPanic(context.WithoutCancel(ctx), number, why), nil
		}
	}()
	if why := w.lacking(number, o); why != "" {
		return result, &Back{After: again + rand.N(3*again), Why: why, known: true}
	}
	if err := w.queue.take(ctx, number, o); err != nil {
		return w.Refused(number, o, err)
	}
	return w.Do(ctx, number, o)
}

func (w *Worker) tell(what string, number int64, o Order) {
	if w.Told != nil {
		w.Told(what, number, o)
	}
}

// Work takes orders until ctx is done; then it takes no more, and waits for those that are
// under way.
func (q *Queue) Work(ctx context.Context, w *Worker) error {
	ctx, w.stop = context.WithCancelCause(ctx)
	defer w.stop(nil)
	w.queue = q
	begun := time.Now()
	w.seen.Store(&begun)
	if _, err := q.team.Pool().Exec(ctx, "INSERT INTO workers (id, seen, accounts, queue, at_once) VALUES ($1, now(), "+
		"$2, "+
		"$3, $4)", w.ID, append([]string{}, w.Accounts...), w.from(), w.AtOnce); err != nil {
		return q.team.Explain(err)
	}
	if err := w.requeue(ctx); err != nil {
		return q.team.Explain(err)
	}
	workers := river.NewWorkers()
	river.AddWorker(workers, orders{of: w})
	config := &river.Config{ID: w.ID, Schema: q.team.Schema(), Logger: silence, Workers: workers,
		Test:          river.TestConfig{Time: q.clock},
		FetchCooldown: 10 * time.Millisecond, Queues: map[string]river.QueueConfig{w.from(): {
			MaxWorkers: w.AtOnce}},
		// how long an order may take nobody knows; whose worker is gone, watches finds
		JobTimeout: -1, RescueStuckJobsAfter: 365 * 24 * time.Hour,
		CompletedJobRetentionPeriod: KeptFor, CancelledJobRetentionPeriod: KeptFor, DiscardedJobRetentionPeriod: KeptFor}
	client, err := river.NewClient(riverpgxv5.New(q.team.Pool()), config)
	if err != nil {
		return err
	}
	ends, unsubscribe := client.Subscribe(river.EventKindJobCompleted, river.EventKindJobCancelled,
		river.EventKindJobFailed)
	defer unsubscribe()
	if err := client.Start(context.WithoutCancel(ctx)); err != nil {
		return q.team.Explain(err)
	}
	within, stop := context.WithCancel(context.WithoutCancel(ctx))
	defer stop()
	go w.heartbeat(within)
	go w.watchdog(within)
	go w.reap(within)
	go w.listens(within, ends)
	<-ctx.Done()
	stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), time.Hour)
	defer cancel()
	if err := client.Stop(stopping); err != nil {
		return err
	}
	w.tellAll(stopping)
	if _, err = q.team.Pool().Exec(stopping, "DELETE FROM workers WHERE id = $1", w.ID); err != nil {
		return q.team.Explain(err)
	}
	if why := context.Cause(ctx); !errors.Is(why, context.Canceled) {
		return why
	}
	return nil
}

// heartbeat gives signs of life, as long as the last one was in time.
func (w *Worker) heartbeat(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(w.Lease / 6):
		}
		if !w.alive() {
			w.OnLeaseLost()
			return
		}
	}
}

// tick is how often a worker sees whether it stood still.
const tick = 50 * time.Millisecond

// watchdog ends a worker that gave no sign of life for nearly as long as its lease: it stood
// still, on a machine that slept, or the database cannot be reached. It asks nobody first, for
// what is under way goes on at the same moment.
func (w *Worker) watchdog(ctx context.Context) {
	for ctx.Err() == nil && !w.late() {
		time.Sleep(tick)
	}
	if ctx.Err() == nil {
		w.lost.Store(true)
		w.OnLeaseLost()
	}
}

// late says whether the last sign of life is so long ago that others may soon take over. A
// machine that sleeps stops the one of its clocks.
func (w *Worker) late() bool {
	now, seen := time.Now(), *w.seen.Load()
	return max(now.Sub(seen), now.Round(0).Sub(seen.Round(0))) > w.Lease*2/3
}

// alive gives a sign of life, and says whether the worker still has what it took. The
// database's clock counts, and no other.
func (w *Worker) alive() bool {
	if w.lost.Load() {
		return false
	}
	ctx, cancel := context.WithTimeout(context.Background(), w.Lease/6)
	defer cancel()
	_ = w.queue.clock.set(ctx) // or the next time
	now := time.Now()
	done, err := w.queue.team.Pool().Exec(ctx, "UPDATE workers SET seen = now() WHERE id = $1 AND seen > now() - "+
		"make_interval(secs => $2)", w.ID, w.Lease.Seconds())
	switch {
	case err != nil:
		return !w.late() // others may reach the database
	case done.RowsAffected() == 0:
		w.lost.Store(true)
	default:
		w.seen.Store(&now)
	}
	return !w.lost.Load()
}

// reap looks for orders whose workers are gone. One that cannot be taken over now, such as
// one whose account does not answer, is tried again later, and is in no other's way.
func (w *Worker) reap(ctx context.Context) {
	failed := map[int64]time.Time{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(w.Lease / 6):
		}
		_ = w.requeue(ctx) // or the next time
		_ = w.queue.team.FreeSlots(ctx, "SELECT id FROM workers WHERE seen > now() - make_interval(secs => $1)",
			w.Lease.Seconds())
		maps.DeleteFunc(failed, func(_ int64, at time.Time) bool { return time.Since(at) > 2*w.Lease })
		for {
			id, err := w.takeOver(ctx, slices.AppendSeq([]int64{}, maps.Keys(failed)))
			if id == 0 {
				break
			}
			if err != nil {
				failed[id] = time.Now()
				if w.Stuck != nil {
					w.Stuck(id, err)
				}
			}
		}
	}
}

// dead is an order that is said to run, whose worker gives no sign of life.
const dead = `SELECT id FROM river_job WHERE state = 'running' AND kind = 'order' AND NOT id = ANY($2) AND NOT EXISTS (
	SELECT FROM workers WHERE workers.id = attempted_by[array_upper(attempted_by, 1)] AND
	seen > now() - make_interval(secs => $1)) ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED`

// takeOver ends what one worker that is gone had begun, and puts its order back on the queue,
// or notes what came of it. The order is this worker's meanwhile; when it dies too, or cannot end
// that, it is another's turn. Without such an order there is no number.
func (w *Worker) takeOver(ctx context.Context, but []int64) (id int64, err error) {
	var o Order
	pool := w.queue.team.Pool()
	if err := pool.QueryRow(ctx, "UPDATE river_job SET attempted_by = array_append(attempted_by, $3) WHERE id = ("+dead+
		") RETURNING id, args", w.Lease.Seconds(), but, w.ID).Scan(&id, &o); err != nil {
		return 0, err
	}
	w.tell("took over", id, o)
	output, err := w.queue.over(ctx, id, o)
	if err == nil && output == nil {
		output, err = w.ends(ctx, id, o)
	}
	if err != nil {
		_, givenBack := pool.Exec(context.WithoutCancel(ctx), "UPDATE river_job SET attempted_by = "+
			"attempted_by[1:array_upper(attempted_by, 1) - 1] WHERE id = $1 AND "+mine, id, w.ID)
		return id, errors.Join(err, givenBack)
	}
	if output == nil {
		_, err = pool.Exec(ctx, "UPDATE river_job SET state = 'available', scheduled_at = now(), finalized_at = NULL "+
			"WHERE id = $1 AND "+mine, id, w.ID)
		return id, err
	}
	state := rivertype.JobStateCompleted
	if r := output.result(); r == nil || r.Code != 0 {
		state = rivertype.JobStateDiscarded
	}
	if _, err = pool.Exec(ctx, "UPDATE river_job SET state = $3, finalized_at = now(), metadata = metadata || "+
		"jsonb_build_object('output', $4::jsonb) WHERE id = $1 AND "+mine, id, w.ID, state, *output); err == nil {
		w.tellAll(ctx)
	}
	return id, err
}

// ends ends what a worker that is gone had begun of an order, and notes what came of it; nil where it is put back.
func (w *Worker) ends(ctx context.Context, id int64, o Order) (*kept, error) {
	ending, err := w.End(ctx, id, o)
	if err != nil || !ending.Over {
		return nil, err
	}
	ending.Result.Worker = w.ID
	output, err := w.queue.end(ctx, id, o, ending.Result)
	return &output, err
}

// mine is an order that is said to run here.
const mine = "state = 'running' AND attempted_by[array_upper(attempted_by, 1)] = $2"

// from is the library's queue from which this worker takes: workers for the same accounts
// share one.
func (w *Worker) from() string {
	if len(w.Accounts) == 0 {
		return river.QueueDefault
	}
	sum := sha256.Sum256([]byte(strings.Join(slices.Sorted(slices.Values(w.Accounts)), " ")))
	return "of_" + hex.EncodeToString(sum[:8])
}

// requeue puts orders that wait where they are taken from: those of its accounts to a worker that
// has some, and those for whose accounts nobody works any more to all.
func (w *Worker) requeue(ctx context.Context) error {
	if _, err := w.queue.team.Pool().Exec(ctx, "DELETE FROM workers WHERE seen < now() - interval '1 day'"); err != nil {
		return err
	}
	if len(w.Accounts) > 0 {
		_, err := w.queue.team.Pool().
			Exec(ctx, "UPDATE river_job SET queue = $1 WHERE kind = 'order' AND queue = 'default' AND "+
				"state IN ('available', 'scheduled', 'retryable') AND args->>'account' = ANY($2)", w.from(), w.Accounts)
		return err
	}
	_, err := w.queue.team.Pool().
		Exec(ctx, "UPDATE river_job SET queue = 'default' WHERE kind = 'order' AND queue <> 'default' "+
			"AND state IN ('available', 'scheduled', 'retryable') AND NOT EXISTS (SELECT FROM workers WHERE workers.queue = "+
			"river_job.queue AND seen > now() - make_interval(secs => $1))", w.Lease.Seconds())
	return err
}

func number(id int64) string { return strconv.FormatInt(id, 10) }
