package queue

import (
	"context"
	"time"

	"github.com/riverqueue/river"
)

// KeptFor is for how long orders that have ended can be looked up.
const KeptFor = 60 * 24 * time.Hour

// listens tells how orders ended, as soon as that is on record, and what a worker that is gone
// did not tell any more.
func (w *Worker) listens(ctx context.Context, ends <-chan *river.Event) {
	for {
		select {
		case <-ctx.Done():
			return
		case _, more := <-ends:
			if !more { // the library has ended; the clock goes on
				ends = nil
			}
		case <-time.After(w.Lease / 2):
		}
		w.tellAll(ctx)
	}
}

// untold takes one order in hand that has ended, and of which nobody tells: its worker did not come
// to it. What ended long ago is no news.
const untold = `UPDATE river_job SET metadata = metadata || jsonb_build_object('telling', $1::text) WHERE id = (
	SELECT id FROM river_job WHERE kind = 'order' AND state IN ('completed', 'cancelled', 'discarded') AND
	finalized_at > now() - interval '2 days' AND NOT metadata ? 'told' AND
	(NOT metadata ? 'telling' OR metadata->>'telling' <> $1 AND NOT EXISTS (SELECT FROM workers WHERE
	workers.id = metadata->>'telling' AND seen > now() - make_interval(secs => $2)))
	ORDER BY id LIMIT 1 FOR UPDATE SKIP LOCKED) RETURNING id, args, metadata->'output'`

// tellAll tells of all orders that have ended and were not told of, and lets their files go.
func (w *Worker) tellAll(ctx context.Context) {
	for ctx.Err() == nil {
		var id int64
		var o Order
		var output *kept // none where somebody cancelled it before it was begun
		pool := w.queue.team.Pool()
		if pool.QueryRow(ctx, untold, w.ID, w.Lease.Seconds()).Scan(&id, &o, &output) != nil {
			w.tellBatches(ctx)
			return // there is none, or the next time
		}
		w.queue.drop(ctx, id)
		if w.Ended != nil && output != nil && o.Batch == 0 { // of a batch it is told once
			if result := output.result(); result != nil {
				w.Ended(context.WithoutCancel(ctx), id, o, *result)
			}
		}
		_, _ = pool.Exec(context.WithoutCancel(ctx),
			`UPDATE river_job SET metadata = metadata || '{"told": true}' WHERE id = $1`,
			id) // else it is told of again, when this worker is gone
	}
}
