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

	"tivset/internal/logs"
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

// Mutator is a step that may change what an earlier step of the job keeps: what
// the site's visitors and owners write into too.
type Mutator interface {
	Changes() bool
}

// Snapshotter is a step whose undo puts back what it kept. When no Mutator after it
// had begun, it is told before its undo that there is nothing to put back: what
// has been written since is other people's.
type Snapshotter interface {
	Unchanged()
}

// Lasting is a step of which nothing is taken back, such as a check, or one that leaves something
// which stays: nobody is told that it is undone.
type Lasting interface {
	Lasts() bool
}

// PostCommit is what is left to do when a job is settled: it is only ever finished,
// never undone, and after a crash it is redone from the journal alone. Its
// exported fields are all that it needs, and none of its fields is a function.
type PostCommit interface {
	// Kind names the type of finisher in the journal.
	Kind() string

	// Title says what it does, for people.
	Title() string

	// Finish carries it out. It must be right when run again after a run that
	// stopped anywhere inside.
	Finish(ctx context.Context) error
}

// List is what a job does: steps that can all be undone, then the one that
// settles it (with it the ledger says what has become of the site), then what
// is left to be finished.
type List struct {
	Steps  []Step
	Commit Step
	Finish []PostCommit
}

// part is a step or a finisher of a list.
type part interface {
	Kind() string
	Title() string
}

// parts gives the whole list in order.
func (l List) parts() []part {
	var out []part
	for _, s := range l.Steps {
		out = append(out, s)
	}
	out = append(out, l.Commit)
	for _, f := range l.Finish {
		out = append(out, f)
	}
	return out
}

// Event tells how a run goes on.
type Event struct {
	Step   int    // from 1
	Of     int    // how many steps there are
	Title  string // the step's
	Stage  Stage  // what it is for
	Done   bool   // the step ended
	Undo   bool   // the step is being taken back
	Failed bool   // it did not work, and others go on
	Count  int64  // how much of the step is done …
	Total  int64  // … of how much, when it can be known
	Unit   string // what Count counts: files, bytes
	Detail string // why the run waits
}

// Runner runs jobs.
type Runner struct {
	Journal  *Journal
	Progress func(Event)             // may be nil
	Again    func(error) bool        // whether an undo that failed is worth another try
	Patience time.Duration           // for how long to try again
	Keep     bool                    // a job that fails is left as it is, to be looked at
	Fenced   bool                    // other machines may go on with the job: see Fence
	StageOf  func(kind string) Stage // of steps that are not Staged; may be nil
}

// Stopped is the error of a job that did not come to its end.
type Stopped struct {
	Job     string
	Step    string // the title of the step that failed
	Cause   error
	Undone  bool  // whether all that was begun was undone
	Settled bool  // whether it had settled: then it is to be finished, not undone
	Kept    bool  // whether it was left as it was, to be looked at
	Left    error // why it was not undone or finished
	Unnoted error // why its journal could not be told that it was undone
}

// Error names the step and the cause.
func (s *Stopped) Error() string { return fmt.Sprintf("%s: %v", s.Step, s.Cause) }

// Unwrap gives the cause.
func (s *Stopped) Unwrap() error { return s.Cause }

// undone notes how the undo went.
func (s *Stopped) undone(err error) {
	var unnoted *Unnoted
	if s.Undone = err == nil || errors.As(err, &unnoted); s.Undone {
		s.Unnoted = err
		return
	}
	s.Left = err
}

// Run carries out a list. On failure it undoes what was begun and returns
// *Stopped. A failure after the job was settled leaves the rest for Recover.
// *Unnoted means that everything was done.
func (r *Runner) Run(ctx context.Context, list List) error {
	all := list.parts()
	settles := len(list.Steps)
	for i, p := range all {
		if err := r.one(ctx, i, all); err != nil {
			stopped := &Stopped{Job: r.Journal.ID, Step: p.Title(), Cause: err}
			if i > settles {
				stopped.Settled, stopped.Left = true, err
				return stopped
			}
			if errors.Is(err, ErrNotOurs) { // whoever has it undoes it
				stopped.Left = err
				return stopped
			}
			if r.Keep && ctx.Err() == nil {
				stopped.Kept = true
				return stopped
			}
			stopped.undone(r.undo(ctx, all, i+1))
			return stopped
		}
		if i == settles {
			// Finishing must not be cut off by an interrupt that comes now.
			ctx = context.WithoutCancel(ctx)
		}
	}
	return r.Journal.end("done")
}

func (r *Runner) tell(e Event) {
	if r.Progress != nil {
		r.Progress(e)
	}
}

func (r *Runner) one(ctx context.Context, i int, all []part) (err error) {
	if err := ctx.Err(); err != nil {
		return err
	}
	p, told := all[i], r.event(i, all)
	logs.From(ctx).Info("step begins", "step", p.Title())
	defer logs.Asked(ctx, "job", "step ended", p.Title())(&err)
	r.tell(told)
	if preparer, ok := p.(Preparer); ok {
		if err := preparer.Prepare(ctx); err != nil {
			return err
		}
	}
	if err := r.stand(ctx, all, i); err != nil {
		return err
	}
	if err := r.Journal.write(record{N: i, State: begun, Kind: p.Kind(), Title: p.Title(), Step: p}); err != nil {
		return err
	}
	if err := carryOut(ctx, p); err != nil {
		// What Do learned, such as that a name belongs to somebody else, is
		// for the undo to know.
		return errors.Join(err, r.Journal.write(record{N: i, State: failed, Kind: p.Kind(), Step: p}))
	}
	told.Done = true
	r.tell(told)
	return r.Journal.write(record{N: i, State: done})
}

func carryOut(ctx context.Context, p part) error {
	if f, ok := p.(PostCommit); ok {
		return f.Finish(ctx)
	}
	return p.(Step).Do(ctx)
}

// undo takes the begun steps of the first n back, last first, even when ctx was
// cancelled. Finishers have nothing to take back.
func (r *Runner) undo(ctx context.Context, all []part, n int) error {
	ctx = context.WithoutCancel(ctx)
	for i := n - 1; i >= 0; i-- {
		step, undoes := all[i].(Step)
		if !r.Journal.Begun(i) || !undoes {
			continue
		}
		if lasting, is := step.(Lasting); !is || !lasting.Lasts() {
			told := r.event(i, all)
			told.Undo = true
			r.tell(told)
		}
		if keeper, keeps := step.(Snapshotter); keeps && !r.changed(all[:n], i) {
			keeper.Unchanged()
		}
		if err := r.undoOne(ctx, i, all, step); err != nil {
			return fmt.Errorf("undo “%s”: %w", step.Title(), err)
		}
	}
	if err := r.over(ctx, all); err != nil {
		return err
	}
	return r.Journal.end("undone")
}

// changed says whether a step after the n-th that may change what that keeps was
// ever begun, whatever became of it.
func (r *Runner) changed(all []part, n int) bool {
	for i := n + 1; i < len(all); i++ {
		if c, is := all[i].(Mutator); is && c.Changes() && r.Journal.everBegun(i) {
			return true
		}
	}
	return false
}

// PutsBack says whether Recover would put back something over what is there
// now: the job is to be undone, it keeps something, and had begun to change it.
func (r *Runner) PutsBack(decode Decode) (bool, error) {
	all, settled, err := r.decoded(decode)
	if err != nil || settled && r.Journal.Ended != reversing {
		return false, err
	}
	for i, p := range all {
		if _, keeps := p.(Snapshotter); keeps && r.Journal.Begun(i) && r.changed(all, i) {
			return true, nil
		}
	}
	return false, nil
}

func (r *Runner) undoOne(ctx context.Context, i int, all []part, s Step) (err error) {
	defer logs.Asked(ctx, "job", "step undone", s.Title())(&err)
	deadline := time.Now().Add(r.Patience)
	for pause := 100 * time.Millisecond; ; pause = min(2*pause, 2*time.Second) {
		err := r.Journal.log.Held()
		if err != nil {
			return err
		}
		if err = r.stand(ctx, all, i); err == nil {
			err = s.Undo(ctx)
		}
		if err == nil {
			return r.Journal.write(record{N: i, State: undone})
		}
		if r.Again == nil || !r.Again(err) || time.Now().After(deadline) {
			return err
		}
		told := r.event(i, all)
		told.Undo, told.Detail = true, err.Error()
		r.tell(told)
		logs.From(ctx).Warn("the undo is tried again", "step", s.Title(), "error", err.Error())
		time.Sleep(pause)
	}
}

// Decode makes a Step or a PostCommit from its kind and its fields in the journal.
type Decode func(kind string, fields json.RawMessage) (any, error)

// Recover ends a job that a crash cut off: a settled one is finished, any
// other undone. It says which by settled. *Unnoted means that it was.
func (r *Runner) Recover(ctx context.Context, decode Decode) (settled bool, err error) {
	all, settled, err := r.decoded(decode)
	if err != nil {
		return false, err
	}
	if err := r.goOn(ctx, all); err != nil {
		return settled, err
	}
	if !settled || r.Journal.Ended == reversing {
		return false, r.undo(ctx, all, len(all))
	}
	for i, s := range r.Journal.steps {
		if s.state == done {
			continue
		}
		if err := r.one(ctx, i, all); err != nil {
			return true, err
		}
	}
	if err := r.over(ctx, all); err != nil {
		return true, err
	}
	return true, r.Journal.end("done")
}

// decoded makes the whole list again. The job is settled when its last step is
// done: what follows that are finishers.
func (r *Runner) decoded(decode Decode) (all []part, settled bool, err error) {
	last := -1
	for i, s := range r.Journal.steps {
		made, err := decode(s.kind, s.fields)
		if err != nil {
			return nil, false, err
		}
		p, ok := made.(part)
		if !ok {
			return nil, false, fmt.Errorf("%q is neither a step nor what finishes a job", s.kind)
		}
		all = append(all, p)
		if _, step := made.(Step); step {
			last = i
		}
	}
	return all, last >= 0 && r.Journal.steps[last].state == done, nil
}
