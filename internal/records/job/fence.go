package job

import (
	"context"
	"errors"
)

// Fence is a step that says, where the work is done, whose it is. Each machine that goes on with
// a job has a higher number than the one before it; one that was away, and comes back, finds
// the other's there before it does anything more.
type Fence interface {
	// Acquire notes there that whoever has this number goes on with the job.
	Acquire(ctx context.Context, number int) error

	// Withdraw takes away what Acquire made there, and nothing that was there before: whoever stood still in
	// between finds that others have ended the job since.
	Withdraw(ctx context.Context, number int) error

	// Verify looks whether nobody has a higher number, and the job is still at work there: an
	// error that matches ErrNotOurs where it is not so.
	Verify(ctx context.Context, number int) error

	// Release takes away what was noted, at the job's end.
	Release(ctx context.Context, number int) error

	// LiftedBy says whether another step of the job takes it away.
	LiftedBy(step any) bool
}

// fences are those of the parts before the n-th that are up: carried out, not undone, not
// taken away since. Of a job that is settled there is none.
func (r *Runner) fences(all []part, n int) (up []Fence) {
	if !r.Fenced || n > 0 && r.settled(all) {
		return nil
	}
	for i, p := range all[:n] {
		f, is := p.(Fence)
		if !is || r.Journal.steps[i].state != done {
			continue
		}
		lifted := false
		for j, other := range all {
			// Once it was begun, the mark may be gone, whether it was undone since or not.
			lifted = lifted || r.Journal.everBegun(j) && f.LiftedBy(other)
		}
		if !lifted {
			up = append(up, f)
		}
	}
	return up
}

// settled says whether what finishes the job has begun.
func (r *Runner) settled(all []part) bool {
	for i, p := range all {
		if _, finishes := p.(PostCommit); finishes && r.Journal.Begun(i) {
			return true
		}
	}
	return false
}

// stand looks at all fences before the n-th part.
func (r *Runner) stand(ctx context.Context, all []part, n int) error {
	for _, f := range r.fences(all, n) {
		if err := f.Verify(ctx, r.Journal.number); err != nil {
			return err
		}
	}
	return nil
}

// goOn takes over what somebody else had begun, in the journal and where the work is done.
func (r *Runner) goOn(ctx context.Context, all []part) error {
	if !r.Fenced {
		return nil
	}
	if err := r.Journal.goOn(); err != nil {
		return err
	}
	up := r.fences(all, len(all))
	for _, f := range up {
		if err := f.Acquire(ctx, r.Journal.number); err != nil {
			return err
		}
	}
	ours := r.Journal.log.Held()
	if !errors.Is(ours, ErrNotOurs) {
		return nil // each step looks again
	}
	for _, f := range up {
		ours = errors.Join(ours, f.Withdraw(context.WithoutCancel(ctx), r.Journal.number))
	}
	return ours
}

// over takes the fences away, when all is done or undone.
func (r *Runner) over(ctx context.Context, all []part) error {
	for _, p := range all {
		if f, is := p.(Fence); is && r.Fenced && r.Journal.number > 1 {
			if err := f.Release(ctx, r.Journal.number); err != nil {
				return err
			}
		}
	}
	return nil
}
