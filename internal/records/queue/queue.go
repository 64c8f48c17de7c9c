// Package queue keeps what is to be done on a queue in a team's database, for workers on as
// many machines as one likes. What is asked for lies there sealed; which site it is about,
// and who asked, is open.
package queue

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivermigrate"
	"github.com/riverqueue/river/rivertype"

	"tivset/internal/fault"
	"tivset/internal/records/team"
)

// Order is something that is to be done.
type Order struct {
	What    string `json:"what" river:"unique"` // the command, such as update
	At      string `json:"at" river:"unique"`   // the address that it is about; of rounds the account
	Account string `json:"account,omitempty"`   // in which that is
	Who     string `json:"who"`
	Tell    string `json:"tell,omitempty"` // whom to mail how it ended
	Call    []byte `json:"call"`           // the words of the command, sealed

	Batch int64 `json:"batch,omitempty"` // the number of all that were put there together
	Files bool  `json:"files,omitempty"` // some go with it

	ID    string    `json:"id"`        // used once
	Until time.Time `json:"not_after"` // it is not begun later
}

// Kind implements river.JobArgs.
func (Order) Kind() string { return "order" }

// Result is what came of an order.
type Result struct {
	Code     int             `json:"code"` // as the command's exit code
	Document json.RawMessage `json:"document,omitempty"`
	Worker   string          `json:"worker"`
}

// Listed is an order on the queue.
type Listed struct {
	Number  int64      `json:"number"`
	What    string     `json:"what"`
	At      string     `json:"at"`
	Account string     `json:"account,omitempty"`
	Who     string     `json:"who"`
	Tell    string     `json:"-"`
	State   string     `json:"state"` // waiting, stuck, running, done, failed, cancelled or forged
	Worker  string     `json:"worker,omitempty"`
	Put     time.Time  `json:"put_at"`
	Ended   *time.Time `json:"ended_at,omitempty"`
	Why     string     `json:"why,omitempty"`      // it waits
	Until   *time.Time `json:"waits_to,omitempty"` // when it is looked at again
	Batch   int64      `json:"batch,omitempty"`    // the number of all that were put there together
	Result  *Result    `json:"result,omitempty"`
}

// Priorities of orders, the most urgent first.
var Priorities = map[string]int{"urgent": 1, "normal": 2, "low": 4}

// Queue is a team's queue.
type Queue struct {
	team   *team.Team
	clock  *clock
	client *river.Client[pgx.Tx] // that inserts and looks, and works nothing
}

var silence = slog.New(slog.NewTextHandler(io.Discard, nil))

// Open opens the team's queue, and makes it where there is none.
func Open(ctx context.Context, t *team.Team) (*Queue, error) {
	driver := riverpgxv5.New(t.Pool())
	migrator, err := rivermigrate.New(driver, &rivermigrate.Config{Schema: t.Schema(), Logger: silence})
	if err != nil {
		return nil, err
	}
	if err := t.Alone(ctx, "queue", func(ctx context.Context) error {
		if _, err := migrator.Migrate(ctx, rivermigrate.DirectionUp, nil); err != nil {
			return err
		}
		// to make what is there waits for everybody who looks at it, and has them wait
		var there bool
		if err := t.Pool().QueryRow(ctx, "SELECT to_regclass('batches') IS NOT NULL").Scan(&there); err != nil || there {
			return err
		}
		_, err := t.Pool().Exec(ctx, beside)
		return err
	}); err != nil {
		return nil, err
	}
	q := &Queue{team: t, clock: &clock{pool: t.Pool()}}
	if err := q.clock.set(ctx); err != nil {
		return nil, t.Explain(err)
	}
	q.client, err = river.NewClient(driver, &river.Config{Schema: t.Schema(), Logger: silence,
		Test: river.TestConfig{Time: q.clock}})
	return q, err
}

// beside are tables of ours beside the library's: who works, since when, only for which accounts if not for
// all, from which of the library's queues, and what they lack; the files that go with orders; and batches of which was
// told.
const beside = `CREATE TABLE IF NOT EXISTS workers (id TEXT PRIMARY KEY, seen TIMESTAMPTZ NOT NULL);
ALTER TABLE workers ADD COLUMN IF NOT EXISTS accounts TEXT[] NOT NULL DEFAULT '{}';
ALTER TABLE workers ADD COLUMN IF NOT EXISTS queue TEXT NOT NULL DEFAULT 'default';
ALTER TABLE workers ADD COLUMN IF NOT EXISTS since TIMESTAMPTZ NOT NULL DEFAULT now();
ALTER TABLE workers ADD COLUMN IF NOT EXISTS at_once INTEGER NOT NULL DEFAULT 0;
ALTER TABLE workers ADD COLUMN IF NOT EXISTS lacks JSONB NOT NULL DEFAULT '{}';
CREATE TABLE IF NOT EXISTS batches (number BIGINT PRIMARY KEY, telling TEXT NOT NULL, told BOOLEAN NOT NULL);
CREATE TABLE IF NOT EXISTS order_files (number BIGINT REFERENCES river_job (id) ON DELETE CASCADE, file INTEGER,
	part INTEGER, sealed BYTEA NOT NULL, PRIMARY KEY (number, file, part));`

// Parts gives the files that go with an order, sealed, a part after the other.
type Parts func(add func(file int, sealed []byte) error) error

// unfinished are the states in which there is at most one order of the same kind at a place.
var unfinished = []rivertype.JobState{rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning,
	rivertype.JobStateRetryable, rivertype.JobStateScheduled}

// Put puts an order on the queue, with its files, nil for none, and gives its number. A decision
// is needed where the same is on it already for that place.
func (q *Queue) Put(ctx context.Context, o Order, priority int, files Parts) (int64, error) {
	// one that fails is not begun again by the library: what is to be tried again is put back
	o.Files = files != nil
	if err := q.promise(ctx, &o); err != nil {
		return 0, err
	}
	options := river.InsertOpts{Priority: priority, MaxAttempts: 1, UniqueOpts: river.UniqueOpts{ByArgs: true,
		ByState: unfinished}}
	var put *rivertype.JobInsertResult
	err := pgx.BeginFunc(ctx, q.team.Pool(), func(tx pgx.Tx) (err error) {
		if err := tx.QueryRow(ctx, whose, o.Account, UsualLease.Seconds()).Scan(&options.Queue); err != nil {
			return err
		}
		if put, err = q.client.InsertTx(ctx, tx, o, &options); err != nil || put.UniqueSkippedAsDuplicate || files == nil {
			return err
		}
		part := 0
		return files(func(file int, sealed []byte) error {
			part++
			_, err := tx.Exec(ctx, "INSERT INTO order_files (number, file, part, sealed) VALUES ($1, $2, $3, $4)", put.Job.ID,
				file, part, sealed)
			return err
		})
	})
	if err != nil {
		return 0, errors.Join(q.team.Explain(err), q.forget(ctx, o))
	}
	if put.UniqueSkippedAsDuplicate {
		_ = q.forget(ctx, o) // it is nowhere else, and can do nothing
		return put.Job.ID, fault.NewAs(fault.QueuedAlready, fault.NeedsConfirmation, "the same is on the queue already", o.At,
			"Follow it with: "+fault.Call("jobs", "--follow", number(put.Job.ID)))
	}
	return put.Job.ID, nil
}

// whose is the library's queue into which an order of an account goes: that of a worker that
// works for this account, or the one for all.
const whose = "SELECT coalesce((SELECT queue FROM workers WHERE $1 = ANY(accounts) AND seen > now() - " +
	"make_interval(secs => $2) ORDER BY id LIMIT 1), 'default')"

// Files gives the files that go with an order.
func (q *Queue) Files(ctx context.Context, id int64) Parts {
	return func(add func(file int, sealed []byte) error) error {
		rows, err := q.team.Pool().
			Query(ctx, "SELECT file, sealed FROM order_files WHERE number = $1 ORDER BY file, part", id)
		if err != nil {
			return q.team.Explain(err)
		}
		defer rows.Close()
		for rows.Next() {
			var file int
			var sealed []byte
			if err := rows.Scan(&file, &sealed); err != nil {
				return err
			}
			if err := add(file, sealed); err != nil {
				return err
			}
		}
		return q.team.Explain(rows.Err())
	}
}

// drop lets the files of an order go that has ended.
func (q *Queue) drop(ctx context.Context, id int64) {
	// what stays goes with the order's row, which the library drops after days
	_, _ = q.team.Pool().Exec(ctx, "DELETE FROM order_files WHERE number = $1", id)
}

// List lists orders, the newest first.
func (q *Queue) List(ctx context.Context, most int) ([]Listed, error) {
	found, err := q.client.JobList(ctx, river.NewJobListParams().First(most).Kinds(Order{}.Kind()).
		OrderBy(river.JobListOrderByID, river.SortOrderDesc))
	if err != nil {
		return nil, q.team.Explain(err)
	}
	return q.believed(ctx, found.Jobs)
}

// Get gives one order.
func (q *Queue) Get(ctx context.Context, id int64) (Listed, error) {
	row, err := q.client.JobGet(ctx, id)
	if errors.Is(err, rivertype.ErrNotFound) {
		return Listed{}, fault.New(fault.Usage, "no request has this number", number(id), "See them with: "+
			fault.Call("queue", "list"))
	}
	if err != nil {
		return Listed{}, q.team.Explain(err)
	}
	all, err := q.believed(ctx, []*rivertype.JobRow{row})
	if err != nil {
		return Listed{}, err
	}
	return all[0], nil
}

// Cancel takes an order from the queue; one that is under way is interrupted, and undone.
func (q *Queue) Cancel(ctx context.Context, id int64) (Listed, error) {
	if _, err := q.Get(ctx, id); err != nil {
		return Listed{}, err
	}
	row, err := q.client.JobCancel(ctx, id)
	if err != nil {
		return Listed{}, q.team.Explain(err)
	}
	l, o := listed(row)
	if row.FinalizedAt == nil {
		return l, nil
	}
	q.drop(ctx, id)
	return l, q.forget(ctx, o)
}

// states are those of the queue in words of ours.
var states = map[rivertype.JobState]string{rivertype.JobStateAvailable: "waiting", rivertype.JobStatePending: "waiting",
	rivertype.JobStateScheduled: "waiting", rivertype.JobStateRetryable: "waiting", rivertype.JobStateRunning: "running",
	rivertype.JobStateCompleted: "done", rivertype.JobStateCancelled: "cancelled", rivertype.JobStateDiscarded: "failed"}

func listed(row *rivertype.JobRow) (Listed, Order) {
	var o Order
	_ = json.Unmarshal(row.EncodedArgs, &o) // what is not an order of ours has no words
	l := Listed{
		Number:  row.ID,
		What:    o.What,
		At:      o.At,
		Account: o.Account,
		Who:     o.Who,
		Tell:    o.Tell,
		Batch:   o.Batch,
		State:   states[row.State],
		Put:     row.CreatedAt.UTC(),
		Ended:   row.FinalizedAt,
	}
	if n := len(row.AttemptedBy); n > 0 {
		l.Worker = row.AttemptedBy[n-1]
	}
	var output struct {
		Output *kept             `json:"output"`
		Why    string            `json:"why"`
		Gave   map[string]string `json:"gave"` // those who gave it back, and why
	}
	_ = json.Unmarshal(row.Metadata, &output) // what is not of ours says nothing
	if l.State == "waiting" && output.Why != "" {
		until := row.ScheduledAt.UTC()
		l.Why, l.Until, l.Worker = output.Why, &until, ""
		if len(output.Gave) >= forPeople {
			l.State = "stuck"
		}
	}
	if output.Output != nil {
		l.Result = output.Output.result()
		if l.State == "done" && l.Result != nil && l.Result.Code != 0 {
			l.State = "failed"
		}
	}
	return l, o
}
