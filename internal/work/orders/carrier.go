package orders

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/backoff"
	"tivset/internal/mail"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/site"
	"tivset/internal/work"
	"tivset/internal/work/batch"
)

// Carrier carries out the orders of a queue.
type Carrier struct {
	Place

	// Service opens what carries out an order, for whom it was asked; "" to end what a worker that is gone
	// had begun. Close lets go of it.
	Service func(ctx context.Context, order int64, who string) (d *work.Service, close func(), err error)

	// Result is what is recorded of how an order ended.
	Result func(ended batch.Ended, err error) queue.Result

	Note func(text string) // what people who watch the worker should know
}

// Do carries an order out. Later says that what was in its way passes by waiting.
func (c *Carrier) Do(ctx context.Context, number int64, o queue.Order) (result queue.Result, later time.Duration) {
	r, done, err := c.open(ctx, number, o)
	if err != nil {
		return c.Result(nil, err), 0
	}
	defer done()
	d, close, err := c.Service(ctx, number, o.Who)
	if err != nil {
		return c.Result(nil, err), 0
	}
	defer close()
	ended, err := batch.One(ctx, d, r)
	if err = fault.WasInterrupted(ctx, err); err != nil && (fault.Of(err).Busy || backoff.Is(err)) {
		later = 10 * time.Second
	}
	return c.Result(ended, err), later
}

// Refused says what came of an order that is not carried out.
func (c *Carrier) Refused(why error) queue.Result { return c.Result(nil, why) }

// Panicked ends what was begun of an order at which the program itself failed, and says what came of it.
func (c *Carrier) Panicked(ctx context.Context, number int64, why any) queue.Result {
	err := fault.New(fault.Failed, "the program itself failed, which is a mistake in it", fmt.Sprint(why),
		"Tell whoever makes it, with what was asked for.")
	if _, left := c.endJobs(ctx, number); left != nil {
		err = fault.New(fault.Incomplete, "the program itself failed, and what it had begun could not be undone",
			fmt.Sprint(why), "See: "+fault.Call("jobs")).Wrap(left)
	}
	c.Note(fmt.Sprintf("number %d: %v\n%s", number, why, debug.Stack()))
	return c.Result(nil, err)
}

// Mail mails to whom it is to be told how an order ended.
func (c *Carrier) Mail(ctx context.Context, number int64, o queue.Order, result queue.Result) error {
	if o.Tell == "" {
		return nil
	}
	d, done, err := c.Service(ctx, number, o.Who)
	if err != nil {
		return err
	}
	defer done()
	in, err := d.Book.Home.Account(o.Account)
	if err != nil {
		return err
	}
	if in.Mail == nil {
		return fault.New(fault.Usage, "the account "+o.Account+" has no mail server", "", "Write mail: into it.")
	}
	state := "done"
	if result.Code != 0 {
		state = "failed"
	}
	text := fmt.Sprintf("Number %d, which %s put on the queue: %s of %s.\nIt is %s", number, o.Who, o.What, o.At, state)
	if why := Why(result); why != "" {
		text += ": " + why
	}
	return d.Mail(ctx, in, mail.Message{To: o.Tell,
		Subject: fmt.Sprintf("Number %d, %s of %s: %s", number, o.What, o.At, state), Text: text + "\n"})
}

// Why words what an order's command said when it failed; "" where it said nothing.
func Why(r queue.Result) string {
	var said struct {
		Error    struct{ What, Where, Remedy string }
		Problems []fault.Problem
	}
	if r.Code == 0 || json.Unmarshal(r.Document, &said) != nil || said.Error.What == "" {
		return ""
	}
	out := said.Error.What
	if said.Error.Where != "" {
		out += " (" + said.Error.Where + ")"
	}
	for _, p := range said.Problems {
		out += "; " + strings.Trim(p.ID+": "+p.What+" "+p.Remedy, ": ")
	}
	return strings.TrimSuffix(out, ".") + ". " + said.Error.Remedy
}

// End ends what a worker that is gone had begun of an order, and says what is to become of
// that. It is over only if all that it was for is done: what else was done for it, such as the copy
// for a rehearsal, or the first of all that was due, is not.
func (c *Carrier) End(ctx context.Context, number int64, o queue.Order) (queue.Ending, error) {
	jobs, err := c.endJobs(ctx, number)
	if err != nil {
		return queue.Ending{}, err
	}
	for _, j := range jobs {
		switch {
		case j.What != o.What || site.IsRehearsal(j.Address):
		case j.Outcome == ledger.Done:
			return queue.Ending{Over: true}, nil
		case j.Outcome == ledger.GivenUp:
			return queue.Ending{Over: true, Result: c.Result(nil, fault.New(fault.Incomplete, "its job was given up",
				j.ID+", "+j.Address, "Look at the site; then ask for it again."))}, nil
		}
	}
	return queue.Ending{}, nil
}

// endJobs ends what was begun for an order: undone, or finished where the site had settled
// already. It gives all of its jobs, the newest first.
func (c *Carrier) endJobs(ctx context.Context, number int64) (of []ledger.Job, err error) {
	d, close, err := c.Service(ctx, number, "")
	if err != nil {
		return nil, err
	}
	defer close()
	// whoever gave the order wanted the site changed by it; what is put back over is kept first
	d.Agree = func(context.Context, string) error { return nil }
	jobs, err := d.Book.Ledger.Jobs(ctx, ledger.JobFilter{Order: number})
	if err != nil {
		return nil, err
	}
	for _, j := range jobs {
		if j.Outcome.Unfinished() {
			if err := free(ctx, d, j.ID); err != nil {
				return nil, err
			}
			if j, err = d.Undo(ctx, j.ID); err != nil {
				return nil, err
			}
		}
		of = append(of, j)
	}
	return of, nil
}

// free takes a journal out of the hand of a program that is gone, or that stands still.
func free(ctx context.Context, d *work.Service, id string) error {
	for range 10 {
		journals := d.Book.Journals.(team.Journals)
		if err := journals.Free(ctx, id); err != nil {
			return err
		}
		log, err := journals.Open(id)
		if err == nil {
			return log.Close()
		}
		if !errors.Is(err, job.ErrRunning) {
			return err
		}
		time.Sleep(200 * time.Millisecond)
	}
	return job.ErrRunning
}
