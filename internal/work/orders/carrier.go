package orders

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/notify/mail"
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
	ID string // of the worker

	// Service opens what carries out an order, for whom it was asked; "" to end what a worker that is gone
	// had begun. Close lets go of it.
	Service func(ctx context.Context, order int64, who string) (d *work.Service, close func(), err error)

	// Result is what is recorded of how an order ended.
	Result func(ended batch.Ended, err error) queue.Result

	Note func(text string) // what people who watch the worker should know
}

// Do carries an order out, or says why it goes back on the queue.
func (c *Carrier) Do(ctx context.Context, number int64, o queue.Order) (queue.Result, *queue.Back) {
	ended, err := c.do(ctx, number, o)
	if err = fault.WasInterrupted(ctx, err); err != nil {
		var put *errBack
		if errors.As(err, &put) {
			return queue.Result{}, put.back
		}
		if b := back(err, number, o.Account); b != nil {
			return queue.Result{}, b
		}
	}
	return c.Result(ended, err), nil
}

// errBack says that an order goes back on the queue.
type errBack struct{ back *queue.Back }

func (e *errBack) Error() string { return e.back.Why }

func (c *Carrier) do(ctx context.Context, number int64, o queue.Order) (batch.Ended, error) {
	r, done, err := c.open(ctx, number, o)
	if err != nil {
		return nil, err
	}
	defer done()
	d, close, err := c.Service(ctx, number, o.Who)
	if err != nil {
		return nil, err
	}
	defer close()
	leave, put := c.room(ctx, d, r)
	if put != nil {
		return nil, &errBack{put}
	}
	defer leave()
	return batch.One(ctx, d, r)
}

// Refused says what came of an order that is not carried out; one that nobody could look at goes back.
func (c *Carrier) Refused(number int64, o queue.Order, why error) (queue.Result, *queue.Back) {
	if !errors.Is(why, queue.ErrRefused) {
		if b := back(why, number, o.Account); b != nil {
			return queue.Result{}, b
		}
	}
	return c.Result(nil, why), nil
}

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
	state := "done"
	if result.Code != 0 {
		state = "failed"
	}
	text := fmt.Sprintf("Number %d, which %s put on the queue: %s of %s.\nIt is %s", number, o.Who, o.What, o.At, state)
	if why := Why(result); why != "" {
		text += ": " + why
	}
	return c.send(ctx, number, o.Who, o.Account, mail.Message{To: o.Tell,
		Subject: fmt.Sprintf("Number %d, %s of %s: %s", number, o.What, o.At, state), Text: text + "\n"})
}

// send mails something through the mail server of an account.
func (c *Carrier) send(ctx context.Context, number int64, who, account string, m mail.Message) error {
	d, done, err := c.Service(ctx, number, who)
	if err != nil {
		return err
	}
	defer done()
	in, err := d.Book.Home.Account(account)
	if err != nil {
		return err
	}
	if in.Mail == nil {
		return fault.New(fault.Usage, "the account "+account+" has no mail server", "", "Write mail: into it.")
	}
	return d.Post(ctx, account, m)
}

// MailBatch mails once how all orders of a batch ended.
func (c *Carrier) MailBatch(ctx context.Context, b queue.Ended) error {
	if b.Tell == "" {
		return nil
	}
	count := map[string]int{}
	for _, o := range b.Orders {
		count[o.State]++
	}
	var parts []string
	for _, state := range slices.Sorted(maps.Keys(count)) {
		if state != "done" {
			parts = append([]string{fmt.Sprintf("%d %s", count[state], state)}, parts...) // failed before cancelled
		}
	}
	state := strings.Join(parts, ", ")
	if state == "" {
		state = "all done"
	}
	return c.send(ctx, b.Number, b.Who, b.In, mail.Message{To: b.Tell, Subject: fmt.Sprintf("Number %d, %d requests: %s",
		b.Number, len(b.Orders), state), Text: BatchText(b.Number, b.Orders) + "\n"})
}

// BatchText says what came of a batch, what failed first.
func BatchText(n int64, all []queue.Listed) string {
	var bad, good []string
	for _, o := range all {
		line := fmt.Sprintf("  number %d, %s of %s: %s", o.Number, o.What, o.At, o.State)
		if o.State == "done" {
			good = append(good, line)
			continue
		}
		if o.Result != nil {
			if why := Why(*o.Result); why != "" {
				line += ": " + why
			}
		}
		bad = append(bad, line)
	}
	out := fmt.Sprintf("Number %d: %d of %d done.", n, len(good), len(all))
	return strings.Join(append([]string{out}, append(bad, good...)...), "\n")
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
