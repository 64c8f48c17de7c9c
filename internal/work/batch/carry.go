package batch

import (
	"context"

	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/work"
)

// How is how a batch is carried out.
type How struct {
	Limits Limits // zero for the usual ones

	// Patient waits for what passes, such as another job at a place. Without it that is an error,
	// as where somebody sits before it, or where a queue waits.
	Patient bool

	Stage func(r *Row, e job.Event) // hears what a row is at; where it is nil the service's Progress does
	Ended func(r *Row)              // hears what came of a row; may be nil
}

// Carry carries out what was looked at and agreed to, and notes with each row what came of it.
func (b *Batch) Carry(ctx context.Context, d *work.Service, how How) {
	var tasks []Task
	var rows []*Row
	ended := func(r *Row) {
		_ = r.Plan.Close()
		if how.Ended != nil {
			how.Ended(r)
		}
	}
	for _, r := range b.Rows {
		if !r.ToDo() {
			if r.Err == nil {
				r.Ended = r.Plan.Done
			}
			ended(r)
			continue
		}
		rows = append(rows, r)
		tasks = append(tasks, Task{Account: r.Plan.Account, Server: r.Plan.Server, Do: func(ctx context.Context,
			d *work.Service) (err error) {
			if r.Ended, err = r.Plan.Do(ctx, d); err != nil {
				r.Ended = nil
			}
			return err
		}})
	}
	watch := Watch{Once: !how.Patient, Ended: func(n int, err error) { // it may have been begun more than once until then
		rows[n].Err = err
		glance(context.WithoutCancel(ctx), d, rows[n].Plan.Address, err)
		ended(rows[n])
	}}
	if how.Stage != nil {
		watch.Stage = func(n int, e job.Event) { how.Stage(rows[n], e) }
	}
	if how.Limits == (Limits{}) {
		how.Limits = Usual
	}
	Side(ctx, d, how.Limits, tasks, watch)
}

// errNotBegun is what came of a row when the batch was interrupted before it.
func errNotBegun() error {
	return fault.New(fault.NeedsConfirmation, "not begun", "", "Run the same again: what is missing is done then.")
}
