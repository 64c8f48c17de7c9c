// Package job runs lists of steps so that they either all happen or none.
//
// Before a step begins, all that its undo needs is in the journal and on the
// disk. A step that fails is undone together with those before it, last first.
// After a crash, Recover reads the journal and does the same.
package job

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"
)

// Step is one step of a job. Its exported fields are what its Undo needs; they
// are written to the journal as JSON, so none of them holds a secret.
type Step interface {
	// Kind names the type of step in the journal.
	Kind() string

	// Title says what the step does, for people.
	Title() string

	// Do carries the step out.
	Do(ctx context.Context) error

	// Undo takes it back. It must be right after a Do that stopped anywhere
	// inside, and right when run twice.
	Undo(ctx context.Context) error
}

// Preparer is a step that finds out something for its undo before it begins,
// without changing anything.
type Preparer interface {
	Prepare(ctx context.Context) error
}

// Settler is the step after which a job is settled: from there it is only
// ever finished, never undone.
type Settler interface{ Settles() bool }

// Event tells how a run goes on.
type Event struct {
	Step   int    // from 1
	Of     int    // how many steps there are
	Title  string // the step's
	Done   bool   // the step ended
	Undo   bool   // the step is being taken back
	Count  int64  // how much of the step is done …
	Total  int64  // … of how much, when it can be known
	Unit   string // what Count counts: files, bytes
	Detail string // why the run waits
}

// Runner runs jobs.
type Runner struct {
	Journal  *Journal
	Progress func(Event)      // may be nil
	Again    func(error) bool // whether an undo that failed is worth another try
	Patience time.Duration    // for how long to try again
}

// Stopped is the error of a job that did not come to its end.
type Stopped struct {
	Job     string
	Step    string // the title of the step that failed
	Cause   error
	Undone  bool  // whether all that was begun was undone
	Settled bool  // whether it had settled: then it is to be finished, not undone
	Left    error // why it was not undone or finished
}

// Error names the step and the cause.
func (s *Stopped) Error() string { return fmt.Sprintf("%s: %v", s.Step, s.Cause) }

// Unwrap gives the cause.
func (s *Stopped) Unwrap() error { return s.Cause }

// Run carries out the steps. On failure it undoes those begun and returns
// *Stopped. A failure after the job was settled leaves the rest for Recover.
func (r *Runner) Run(ctx context.Context, steps []Step) error {
	settled := false
	for i, s := range steps {
		if err := r.one(ctx, i, len(steps), s); err != nil {
			stopped := &Stopped{Job: r.Journal.ID, Step: s.Title(), Cause: err}
			if settled {
				stopped.Settled, stopped.Left = true, err
				return stopped
			}
			stopped.Left = r.undo(ctx, steps[:i+1], len(steps))
			stopped.Undone = stopped.Left == nil
			return stopped
		}
		if settles(s) {
			settled = true
			// Finishing must not be cut off by an interrupt that comes now.
			ctx = context.WithoutCancel(ctx)
		}
	}
	return r.Journal.end("done")
}

func settles(s Step) bool {
	settler, ok := s.(Settler)
	return ok && settler.Settles()
}

func (r *Runner) tell(e Event) {
	if r.Progress != nil {
		r.Progress(e)
	}
}

func (r *Runner) one(ctx context.Context, i, of int, s Step) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	r.tell(Event{Step: i + 1, Of: of, Title: s.Title()})
	if p, ok := s.(Preparer); ok {
		if err := p.Prepare(ctx); err != nil {
			return err
		}
	}
	if err := r.Journal.write(record{N: i, State: begun, Kind: s.Kind(), Step: s}); err != nil {
		return err
	}
	if err := s.Do(ctx); err != nil {
		// What Do learned, such as that a name belongs to somebody else, is
		// for the undo to know.
		return errors.Join(err, r.Journal.write(record{N: i, State: failed, Kind: s.Kind(), Step: s}))
	}
	r.tell(Event{Step: i + 1, Of: of, Title: s.Title(), Done: true})
	return r.Journal.write(record{N: i, State: done})
}

// undo takes the begun steps back, last first, even when ctx was cancelled.
func (r *Runner) undo(ctx context.Context, steps []Step, of int) error {
	ctx = context.WithoutCancel(ctx)
	for i := len(steps) - 1; i >= 0; i-- {
		if !r.Journal.Begun(i) {
			continue
		}
		r.tell(Event{Step: i + 1, Of: of, Title: steps[i].Title(), Undo: true})
		if err := r.undoOne(ctx, i, of, steps[i]); err != nil {
			return fmt.Errorf("undo “%s”: %w", steps[i].Title(), err)
		}
	}
	return r.Journal.end("undone")
}

func (r *Runner) undoOne(ctx context.Context, i, of int, s Step) error {
	deadline := time.Now().Add(r.Patience)
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 2*time.Second) {
		err := s.Undo(ctx)
		if err == nil {
			return r.Journal.write(record{N: i, State: undone})
		}
		if r.Again == nil || !r.Again(err) || time.Now().After(deadline) {
			return err
		}
		r.tell(Event{Step: i + 1, Of: of, Title: s.Title(), Undo: true, Detail: err.Error()})
		time.Sleep(pause)
	}
}

// Decode makes a step from its kind and its fields in the journal.
type Decode func(kind string, fields json.RawMessage) (Step, error)

// Recover ends a job that a crash cut off: a settled one is finished, any
// other undone. It says which by settled.
func (r *Runner) Recover(ctx context.Context, decode Decode) (settled bool, err error) {
	steps, settled, err := r.begun(decode)
	if err != nil {
		return false, err
	}
	if !settled || r.Journal.Ended == reversing {
		return false, r.undo(ctx, steps, len(r.Journal.steps))
	}
	steps = append(steps, make([]Step, len(r.Journal.steps)-len(steps))...)
	for i, s := range r.Journal.steps {
		if s.state == done {
			continue
		}
		if steps[i], err = decode(s.kind, s.fields); err != nil {
			return true, err
		}
		if err := r.one(ctx, i, len(steps), steps[i]); err != nil {
			return true, err
		}
	}
	return true, r.Journal.end("done")
}

// begun makes the steps up to the last that was begun; those between that were
// undone are nil.
func (r *Runner) begun(decode Decode) (steps []Step, settled bool, err error) {
	steps = make([]Step, len(r.Journal.steps))
	last := -1
	for i, s := range r.Journal.steps {
		if s.state == "" {
			continue
		}
		if steps[i], err = decode(s.kind, s.fields); err != nil {
			return nil, false, err
		}
		last = i
		settled = settled || s.state == done && settles(steps[i])
	}
	return steps[:last+1], settled, nil
}

// Reverse undoes a job that had come to its end. Cut off, it is for Recover to
// go on.
func (r *Runner) Reverse(ctx context.Context, decode Decode) error {
	steps, _, err := r.begun(decode)
	if err != nil {
		return err
	}
	if err := r.Journal.end(reversing); err != nil {
		return err
	}
	return r.undo(ctx, steps, len(r.Journal.steps))
}
