package ledger

import (
	"context"
	"database/sql"
	"time"

	"tivset/internal/records/trust"
)

// JobsFor is for how long jobs that have ended are kept, in days; the one that installed a site is kept for as
// long as that is on record.
const JobsFor = 400

// JobFilter says which jobs are asked for; all of them when it is empty.
type JobFilter struct {
	Unfinished bool      // only those that have not ended
	Order      int64     // only those of an order of the queue
	Since      time.Time // only those that began since
}

// Jobs implements Ledger.
func (l *SQL) Jobs(ctx context.Context, w JobFilter) ([]Job, error) {
	where, args := "", []any{}
	and := func(condition string, values ...any) {
		if where += " AND "; len(args) == 0 && where == " AND " {
			where = " WHERE "
		}
		where += condition
		args = append(args, values...)
	}
	if w.Unfinished {
		and("ended = ''")
	}
	if w.Order != 0 {
		and("number = ?", w.Order)
	}
	if !w.Since.IsZero() {
		and("started >= ?", Moment(w.Since))
	}
	return records[Job](ctx, l, trust.OfJob, false, "SELECT id, record FROM jobs"+where+" ORDER BY started DESC, id "+
		"DESC", args...)
}

// Job implements Ledger.
func (l *SQL) Job(ctx context.Context, id string) (Job, error) {
	return record[Job](ctx, l, trust.OfJob, id, "no job is recorded as "+id, "SELECT record FROM jobs WHERE id = ?")
}

// PutJob implements Ledger.
func (l *SQL) PutJob(ctx context.Context, j Job) error {
	ended := "" // sorts before every time
	if j.Ended != nil {
		ended = Moment(*j.Ended)
	}
	return l.put(ctx, trust.What{Kind: trust.OfJob, Key: j.ID, About: j.Address, Note: j.What + " of " +
		j.Address + ": " + string(j.Outcome)}, "INSERT INTO jobs (id, started, ended, number, record) VALUES (?, ?, ?, ?, "+
		"?) ON CONFLICT (id) DO "+
		"UPDATE SET started = excluded.started, ended = excluded.ended, number = excluded.number, "+
		"record = excluded.record", j, j.ID, Moment(j.Started), ended, j.Order)
}

// DropJobs implements Ledger.
func (l *SQL) DropJobs(ctx context.Context, before time.Time) (dropped []string, err error) {
	old, err := list(ctx, l, func(rows *sql.Rows) (id string, err error) {
		return id, rows.Scan(&id)
	}, "SELECT id FROM jobs WHERE ended > '' AND ended < ? ORDER BY id", Moment(before))
	if err != nil || len(old) == 0 {
		return nil, err
	}
	sites, err := l.Sites(ctx)
	if err != nil {
		return nil, err
	}
	needed := map[string]bool{}
	for _, s := range sites {
		needed[s.Job] = true
	}
	for _, id := range old {
		if needed[id] {
			continue
		}
		if err := l.drop(ctx, trust.What{Kind: trust.OfJob, Key: id}, "DELETE FROM jobs WHERE id = ?"); err != nil {
			return dropped, err
		}
		dropped = append(dropped, id)
	}
	return dropped, nil
}

// FillColumns fills the columns of jobs that were kept before there were any.
func (l *SQL) FillColumns(ctx context.Context) error {
	jobs, err := l.Jobs(ctx, JobFilter{})
	if err != nil {
		return err
	}
	for _, j := range jobs {
		if err := l.PutJob(ctx, j); err != nil {
			return err
		}
	}
	return nil
}
