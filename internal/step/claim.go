package step

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/site"

	"golang.org/x/sync/errgroup"
)

var _ job.Fence = (*Claim)(nil)

// Claim marks the place as being worked on, in the account itself.
type Claim struct {
	*Tools  `json:"-"`
	Marker  string `json:"marker"`
	Address string `json:"address"`
	StoreAt string `json:"store"`
	Account string `json:"account,omitempty"` // where the place is, "" for the job's own

	set   bool         // Acquire set the mark, which was not there
	Found *ledger.Site `json:"-"` // the site that is to be there, as it was looked at; nil for none
}

// ClaimOf claims the place of an address. Found is the site that is to be there,
// nil for none.
func ClaimOf(t *Tools, address string, found *ledger.Site) *Claim {
	return &Claim{Tools: t, Marker: t.Store().Mark(address), Address: address, StoreAt: t.Store().Top(), Found: found,
		Account: t.In.Name}
}

// Kind and Title implement job.Step.
func (*Claim) Kind() string  { return "claim" }
func (*Claim) Title() string { return "Claim the place" }

// Do sets the mark, and looks again at what the plan was made of.
func (c *Claim) Do(ctx context.Context) error {
	mine := hosting.Mark{Job: c.Job, Address: c.Address, Who: c.Who, Since: c.Now().UTC(),
		New:    c.Found == nil || c.Found.Account != c.In.Name,
		Folder: c.Site.Place.Folder}
	if err := c.mark(ctx, mine); err != nil {
		return err
	}
	if err := c.alone(ctx, mine); err != nil {
		return err
	}
	return c.asPlanned(ctx)
}

// alone makes sure that nobody else is at work in the folder, around it or in it,
// where a site comes to be: what the one takes for its own the other may put there.
// The mark is set before the others are looked at, so that of two at least one sees
// the other.
func (c *Claim) alone(ctx context.Context, mine hosting.Mark) error {
	all, err := c.In.Marks(ctx, c.In.Store().Busy())
	for _, m := range all {
		nested := m.Folder != "" && (files.Within(m.Folder, mine.Folder) || files.Within(mine.Folder, m.Folder))
		if m.Job != mine.Job && nested && (m.New || mine.New) {
			return atWork("another job is at work in a folder around this one, or in it", m)
		}
	}
	return err
}

// atWork is the fault of a place at which another job is.
func atWork(what string, m hosting.Mark) error {
	f := fault.New(fault.NeedsConfirmation, what, m.Address,
		fmt.Sprintf("Job %s of %s, since %s. Wait for its end; if it was cut off: ", m.Job, m.Who,
			m.Since.Format("2006-01-02 15:04 MST"))+fault.Call("undo", m.Job))
	f.Busy = true
	return f
}

// mark sets the mark. One that was there may be this job's own, where a line was cut off when it had been set; and it
// may have gone by the time it is read, with the end of its job. That one is not set at once again: where a server
// cannot refuse to replace, two that do so together would not see each other.
func (c *Claim) mark(ctx context.Context, mine hosting.Mark) error {
	err := c.In.SetMark(ctx, c.Marker, mine)
	if !errors.Is(err, fs.ErrExist) {
		return err
	}
	m, err := c.In.ReadMark(ctx, c.Marker)
	switch {
	case err == nil && m.Job == c.Job:
		return nil
	case err == nil:
		return atWork("another job is at work here", m)
	case !errors.Is(err, fs.ErrNotExist):
		return fmt.Errorf("whoever is at work here cannot be read: %w", err)
	}
	f := fault.New(fault.NeedsConfirmation, "another job was at work here a moment ago", c.Address,
		"Run the command again.")
	f.Busy = true
	return f
}

// asPlanned makes sure that no other job has ended here since the plan was
// made: a site's secrets must not be written over, and a change to one be made
// of what it is now.
func (c *Claim) asPlanned(ctx context.Context) error {
	now, err := c.Book.Ledger.Site(ctx, c.Address)
	switch {
	case errors.Is(err, fs.ErrNotExist) && c.Found == nil:
		return nil
	case err == nil && c.Found == nil:
		return site.IsThere(c.Site.At)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	case err == nil && now.LastJob == c.Found.LastJob && now.Job == c.Found.Job:
		return nil
	}
	return fault.New(fault.NeedsConfirmation, "another job has changed the site meanwhile"+c.whatWasDone(ctx, now),
		c.Address, "Look at it with "+fault.Call("show", c.Address)+", and run the command again.")
}

// whatWasDone says what the other job did, as far as it is on record.
func (c *Claim) whatWasDone(ctx context.Context, now ledger.Site) string {
	id := now.LastJob
	if id == "" {
		id = now.Job
	}
	j, err := c.Book.Ledger.Job(ctx, id)
	if err != nil {
		return ""
	}
	what := ": " + j.What
	if c.Found != nil && now.Release != c.Found.Release && now.Release != "" {
		what += " from " + c.Found.Release + " to " + now.Release
	}
	if j.Who != "" {
		what += " by " + j.Who
	}
	if j.Ended != nil {
		what += ", at its end since " + j.Ended.Format("15:04 MST")
	}
	return what
}

// Undo takes the mark away, and the store when it holds nothing else.
func (c *Claim) Undo(ctx context.Context) error {
	return c.with(ctx, func(t *Tools) error {
		return t.In.DropMark(ctx, c.Marker, c.Job, t.Store().Busy(), c.StoreAt)
	})
}

// Acquire implements job.Fence. A mark that was taken away is set again. It can be neither
// changed nor, for a moment, be away: what is noted is a file beside it.
func (c *Claim) Acquire(ctx context.Context, number int) error {
	return c.with(ctx, func(t *Tools) error {
		err := t.In.SetMark(ctx, c.Marker, hosting.Mark{Job: c.Job, Address: c.Address, Who: t.Who, Since: t.Now().UTC()})
		if errors.Is(err, fs.ErrExist) {
			var m hosting.Mark
			if m, err = t.In.ReadMark(ctx, c.Marker); err == nil && m.Job != c.Job {
				err = atWork("another job is at work here", m)
			}
		} else {
			c.set = err == nil
		}
		if err != nil {
			return err
		}
		err = files.Write(ctx, t.In.Files, t.Store().Hand(c.Job, number), nil, 0o600)
		if errors.Is(err, fs.ErrExist) { // by an attempt that was cut off
			return nil
		}
		return err
	})
}

// Withdraw implements job.Fence.
func (c *Claim) Withdraw(ctx context.Context, number int) error {
	return c.with(ctx, func(t *Tools) error {
		if err := files.Drop(ctx, t.In.Files, t.Store().Hand(c.Job, number)); err != nil {
			return err
		}
		if c.set {
			return t.In.DropMark(ctx, c.Marker, c.Job, t.Store().Busy(), c.StoreAt)
		}
		return files.DropEmpty(ctx, t.In.Files, t.Store().Busy(), t.Store().Top())
	})
}

// Verify implements job.Fence.
func (c *Claim) Verify(ctx context.Context, number int) error {
	return c.with(ctx, func(t *Tools) error {
		next, m, err := c.seen(ctx, t, number)
		for range looksAgain { // a busy FTP server says of a file that it is not there when it cannot open it just now
			if err != nil || next || m.Job != "" {
				break
			}
			t.In.Pause(ctx, lookAgain)
			next, m, err = c.seen(ctx, t, number)
		}
		if err != nil {
			return err
		}
		if next || m.Job != c.Job {
			return fault.NewAs(fault.TakenOver, fault.Incomplete, "another machine has gone on with the job meanwhile",
				c.Address,
				"See what became of it: "+fault.Call("jobs")).Wrap(job.ErrNotOurs)
		}
		return nil
	})
}

// A mark that is not there is looked for again before somebody is said to have taken it.
const (
	looksAgain = 3
	lookAgain  = 300 * time.Millisecond
)

// seen asks whether the next number is taken, and for the mark; one that is not there is of no job.
func (c *Claim) seen(ctx context.Context, t *Tools, number int) (next bool, m hosting.Mark, err error) {
	both, within := errgroup.WithContext(ctx)
	both.Go(func() (err error) {
		next, err = files.Exists(within, t.In.Files, t.Store().Hand(c.Job, number+1))
		return err
	})
	both.Go(func() (err error) {
		if m, err = t.In.ReadMark(within, c.Marker); errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
		return err
	})
	err = both.Wait()
	return next, m, err
}

// Release implements job.Fence.
func (c *Claim) Release(ctx context.Context, number int) error {
	return c.with(ctx, func(t *Tools) error {
		for n := 2; n <= number; n++ {
			if err := files.Drop(ctx, t.In.Files, t.Store().Hand(c.Job, n)); err != nil {
				return err
			}
		}
		return files.DropEmpty(ctx, t.In.Files, t.Store().Busy(), t.Store().Top())
	})
}

// LiftedBy implements job.Fence.
func (c *Claim) LiftedBy(step any) bool {
	u, is := step.(*Unclaim)
	return is && u.Marker == c.Marker
}

// with does something with the job's tools in the claim's account.
func (c *Claim) with(ctx context.Context, do func(*Tools) error) error {
	t, done, err := c.inAccount(ctx, c.Account)
	if err != nil {
		return err
	}
	defer done()
	return do(t)
}

// Unclaim lets a place go that was only looked at.
type Unclaim struct {
	*Tools `json:"-"`
	lasting
	Marker string `json:"marker"`
}

// Kind and Title implement job.Step.
func (*Unclaim) Kind() string  { return "unclaim" }
func (*Unclaim) Title() string { return "Let others work at the original again" }

// Do takes the mark away.
func (u *Unclaim) Do(ctx context.Context) error { return u.In.DropMark(ctx, u.Marker, u.Job) }
