package queue

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"
)

// Working is a worker, as the queue knows it.
type Working struct {
	ID       string            `json:"worker"`
	Since    time.Time         `json:"since"`
	Seen     time.Time         `json:"seen_at"` // its last sign of life, by the database's clock
	Alive    bool              `json:"alive"`
	AtOnce   int               `json:"at_once"`
	Accounts []string          `json:"accounts"` // those for which it works alone; none for all
	Orders   []int64           `json:"orders"`   // what it has in hand
	Lacks    map[string]string `json:"lacks"`    // what it cannot carry out, and why
}

// Workers lists those that gave a sign of life within a day, the living ones first.
func (q *Queue) Workers(ctx context.Context) ([]Working, error) {
	rows, err := q.team.Pool().Query(ctx, "SELECT id, since, seen, seen > now() - make_interval(secs => $1) AS alive, "+
		"at_once, "+
		"accounts, ARRAY(SELECT river_job.id FROM river_job WHERE state = 'running' AND kind = 'order' AND "+
		"attempted_by[array_upper(attempted_by, 1)] = workers.id ORDER BY river_job.id), lacks FROM workers "+
		"ORDER BY alive DESC, since", UsualLease.Seconds())
	if err != nil {
		return nil, q.team.Explain(err)
	}
	out, err := pgx.CollectRows(rows, pgx.RowToStructByPos[Working])
	return out, q.team.Explain(err)
}

// Alive says how many workers live that would take orders of an account.
func (q *Queue) Alive(ctx context.Context, account string) (n int, err error) {
	err = q.team.Pool().QueryRow(ctx, "SELECT count(*) FROM workers WHERE seen > now() - make_interval(secs => $1) AND "+
		"(accounts = '{}' OR $2 = ANY(accounts))", UsualLease.Seconds(), account).Scan(&n)
	return n, q.team.Explain(err)
}

// Counts says how many orders wait, run and failed within a day.
func (q *Queue) Counts(ctx context.Context) (map[string]float64, error) {
	var waiting, running, failed float64
	err := q.team.Pool().QueryRow(ctx, "SELECT count(*) FILTER (WHERE state IN ('available', 'scheduled', 'retryable', "+
		"'pending')), count(*) FILTER (WHERE state = 'running'), count(*) FILTER (WHERE state = 'discarded' AND "+
		"finalized_at > now() - interval '1 day') FROM river_job WHERE kind = 'order'").Scan(&waiting, &running, &failed)
	return map[string]float64{"waiting": waiting, "running": running, "failed_within_a_day": failed}, q.team.Explain(err)
}
