package queue

import (
	"context"
	"fmt"

	"github.com/jackc/pgx/v5"
	"github.com/riverqueue/river/rivertype"

	"tivset/internal/fault"
)

// NewBatch gives a number for orders that are put on the queue together. No order has it.
func (q *Queue) NewBatch(ctx context.Context) (n int64, err error) {
	err = q.team.Pool().QueryRow(ctx, "SELECT nextval(pg_get_serial_sequence('river_job', 'id'))").Scan(&n)
	return n, q.team.Explain(err)
}

// Of lists the orders that a number means, in their order: one, or all of a batch.
func (q *Queue) Of(ctx context.Context, id int64) ([]Listed, error) {
	rows, err := q.team.Pool().Query(ctx, "SELECT id FROM river_job WHERE kind = 'order' AND (id = $1 OR "+
		"args->>'batch' = $2) ORDER BY id", id, fmt.Sprint(id))
	if err != nil {
		return nil, q.team.Explain(err)
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[int64])
	if err != nil {
		return nil, q.team.Explain(err)
	}
	var found []*rivertype.JobRow
	for _, one := range ids {
		row, err := q.client.JobGet(ctx, one)
		if err != nil {
			return nil, q.team.Explain(err)
		}
		found = append(found, row)
	}
	if len(found) == 0 {
		return nil, fault.New(fault.Usage, "no request has this number", number(id), "See them with: "+
			fault.Call("queue", "list"))
	}
	return q.believed(ctx, found)
}

// Retry puts an order on the queue again that failed, was cancelled, or waits for people, and gives its number.
func (q *Queue) Retry(ctx context.Context, l Listed, who string, batch int64, priority int) (int64, error) {
	row, err := q.client.JobGet(ctx, l.Number)
	if err != nil {
		return 0, q.team.Explain(err)
	}
	_, o := listed(row)
	switch l.State {
	case "stuck":
		_, err := q.team.Pool().Exec(ctx, "UPDATE river_job SET metadata = metadata - 'gave' - 'why', scheduled_at = now() "+
			"WHERE id = $1 AND state IN ('available', 'scheduled', 'retryable')", l.Number)
		return l.Number, q.team.Explain(err)
	case "failed", "cancelled":
	default:
		return 0, fault.New(fault.Usage, "only what failed, was cancelled, or waits for people can be tried again", l.At,
			"It is "+l.State+".")
	}
	if o.Files {
		return 0, fault.New(fault.Usage, "the files that went with the request are not kept", l.At, "Ask for it again.")
	}
	o.Who, o.Batch = who, batch
	return q.Put(ctx, o, priority, nil)
}

// Ended are the orders of a batch, of which all have ended.
type Ended struct {
	Number int64
	Tell   string // whom to mail; "" for nobody
	Who    string
	In     string // an account of them
	Orders []Listed
}

// untoldBatches takes those in hand of which all orders have ended, and of which nobody tells.
const untoldBatches = `INSERT INTO batches (number, telling, told) SELECT number, $1, false FROM (
	SELECT (args->>'batch')::bigint AS number FROM river_job WHERE kind = 'order' AND args->>'batch' IN (
		SELECT args->>'batch' FROM river_job WHERE kind = 'order' AND args ? 'batch' AND finalized_at > now() - interval '2 days')
	GROUP BY 1 HAVING bool_and(finalized_at IS NOT NULL)) AS ended
	ON CONFLICT (number) DO UPDATE SET telling = $1 WHERE NOT batches.told AND batches.telling <> $1 AND NOT EXISTS (
	SELECT FROM workers WHERE workers.id = batches.telling AND seen > now() - make_interval(secs => $2)) RETURNING number`

// tellBatches tells of batches of which all orders have ended.
func (w *Worker) tellBatches(ctx context.Context) {
	pool := w.queue.team.Pool()
	rows, err := pool.Query(ctx, untoldBatches, w.ID, w.Lease.Seconds())
	if err != nil {
		return // or the next time
	}
	numbers, _ := pgx.CollectRows(rows, pgx.RowTo[int64])
	for _, n := range numbers {
		orders, err := w.queue.Of(ctx, n)
		if err != nil || len(orders) == 0 {
			continue
		}
		if w.BatchEnded != nil {
			w.BatchEnded(context.WithoutCancel(ctx), Ended{n, orders[0].Tell, orders[0].Who, orders[0].Account, orders})
		}
		_, _ = pool.Exec(context.WithoutCancel(ctx), "UPDATE batches SET told = true WHERE number = $1", n)
	}
}
