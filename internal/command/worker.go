package command

import (
	"context"
	"crypto/hmac"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime/debug"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/hosting/backoff"
	"tivset/internal/mail"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/screen"
	"tivset/internal/site"
	"tivset/internal/work/batch"
)

func (a *app) worker() *cobra.Command {
	w, patient := &queue.Worker{AtOnce: 2, Lease: queue.UsualLease}, false
	c := &cobra.Command{
		Use:   "worker [--at-once N] [--accounts A,B]",
		Short: "Do what is on the team's queue, until Ctrl-C",
		Long: "Takes orders from the queue and carries them out, on as many machines as one likes. A worker that\n" +
			"gives no sign of life any more is noticed: another one ends what it had begun (undone, or finished\n" +
			"when the site was there), and does the order again. One that could not reach the database, or stood still\n" +
			"with its machine, ends what it is at and begins anew. With --accounts it works for those alone, and\n" +
			"as long as it does, no other worker does: such as for files of its own machine. Ctrl-C takes no more\n" +
			"orders, and ends when those that are under way have ended.",
		Example: "  tivset worker --at-once 4\n  tivset worker --accounts quillmere",
		Args:    takes(0, 0, ""), Annotations: noDryRun(),
		RunE: func(c *cobra.Command, _ []string) error {
			if w.AtOnce < 1 {
				return fault.New(fault.Usage, "at least one order has to be taken at once", "--at-once",
					"Give a number from 1 on.")
			}
			if w.Lease < time.Second {
				return fault.New(fault.Usage, "a lease is a second at least", "--lease", "Leave it out, or say 20s.")
			}
			return a.work(c.Context(), w, patient)
		},
	}
	c.Flags().DurationVar(&w.Lease, "lease", w.Lease,
		"after how long without a sign of life others take over; the same for all workers")
	c.Flags().StringSliceVar(&w.Accounts, "accounts", nil,
		"only for these accounts, which others then leave to it (for all when left out)")
	option(c, "accounts", a.accountWords, 0)
	c.Flags().BoolVar(&patient, "anew", false, "wait for the database as long as it takes")
	_ = c.Flags().MarkHidden("anew")
	c.Flags().IntVar(&w.AtOnce, "at-once", w.AtOnce, "how many orders are carried out side by side")
	return c
}

// waits is how often a worker that begins anew tries to reach the database.
const waits = 3 * time.Second

// reached opens the queue; a worker that begins anew has worked with it before, and waits for
// it for as long as it takes.
func (a *app) reached(
	ctx context.Context,
	patient bool,
) (q *queue.Queue, p team.Place, as string, done func(), err error) {
	for {
		q, p, as, done, err = a.queueOf(ctx)
		if err == nil || !patient || fault.Of(err).Kind != fault.Failed {
			return q, p, as, done, err
		}
		select {
		case <-ctx.Done():
			return q, p, as, done, ctx.Err()
		case <-time.After(waits):
		}
	}
}

// gone ends all that this worker is at, by ending the program, and begins anew.
func (a *app) gone(lease time.Duration) {
	a.streams.Note("this worker stood still, or could not reach the database, for nearly as long as its lease of " +
		lease.String() + ": others take over what it had, and it begins anew")
	words := slices.DeleteFunc(slices.Clone(a.args), func(word string) bool { return word == "--anew" })
	if err := reexec(append(words, "--anew")); err != nil {
		os.Exit(int(fault.Incomplete))
	}
}

func (a *app) work(ctx context.Context, w *queue.Worker, patient bool) error {
	q, p, as, done, err := a.reached(ctx, patient)
	if err != nil {
		return err
	}
	defer done()
	if err := a.mayAll(ctx, p.Ledger.(*team.Team)); err != nil {
		return err
	}
	a.world.team = p.Ledger.(*team.Team) // for all that is done from here on
	for _, name := range w.Accounts {
		if _, err := p.Home.Account(name); err != nil {
			return err
		}
	}
	w.ID = fmt.Sprintf("%s %s %d", as, a.world.Now().UTC().Format("20060102-150405.000"), os.Getpid())
	w.Do = func(ctx context.Context, number int64, o queue.Order) (queue.Result, time.Duration) {
		r, done, err := requestOf(p, o, q.Files(ctx, number))
		if err != nil {
			return a.resultOf(nil, err), 0
		}
		defer done()
		return a.fulfil(ctx, r, number, o.Who)
	}
	w.Ended = func(ctx context.Context, number int64, o queue.Order, result queue.Result) {
		if err := a.mailEnd(ctx, number, o, result); err != nil {
			a.streams.Note(fmt.Sprintf("%s was not told how number %d ended: %v", o.Tell, number, err))
		}
	}
	w.OnPanic = func(ctx context.Context, number int64, why any) queue.Result {
		err := fault.New(fault.Failed, "the program itself failed, which is a mistake in it", fmt.Sprint(why),
			"Tell whoever makes it, with what was ordered.")
		if _, left := a.endJobs(ctx, number); left != nil {
			err = fault.New(fault.Incomplete, "the program itself failed, and what it had begun could not be taken back",
				fmt.Sprint(why), "See: "+fault.Call("jobs")).Wrap(left)
		}
		a.streams.Note(fmt.Sprintf("number %d: %v\n%s", number, why, debug.Stack()))
		return a.resultOf(nil, err)
	}
	w.End = a.endOf
	w.Stuck = func(number int64, err error) {
		f := fault.Of(err)
		a.streams.Note(fmt.Sprintf("number %d, of a worker that is gone, cannot be ended now, and is tried again: %s. %s",
			number, f.Error(), screen.Spelled(f.Remedy)))
	}
	var once sync.Once
	w.OnLeaseLost = func() { once.Do(func() { a.gone(w.Lease) }) }
	w.Told = func(what string, number int64, o queue.Order) { a.streams.Say("%s %s", what, orderName(number, o)) }
	a.streams.Say("Working for the team at %s, %d at once, as %s. Ctrl-C ends it.", p.Ledger.(*team.Team).Address(),
		w.AtOnce, w.ID)
	return q.Work(ctx, w)
}

// requestOf opens an order. Whoever can write into the database could put one there: only one
// that is marked was put there by somebody who may do all.
func requestOf(p team.Place, o queue.Order, files queue.Parts) (r batch.Request, done func(), err error) {
	mark, err := p.Vault.Key(o.Marked())
	if err != nil {
		return nil, nil, err
	}
	if !hmac.Equal(mark, o.Mark) {
		return nil, nil, fault.New(fault.NeedsConfirmation, "nobody of the team put this order there", o.At,
			"It was not carried out. See who can write into the database.")
	}
	text, err := p.Vault.UnsealText(o.Call)
	if err != nil {
		return nil, nil, err
	}
	return unpacked(text, p, files)
}

// fulfil carries a request out, for who asked for it, and gives what a program is told of it. Later says that
// what was in its way passes by waiting.
func (a *app) fulfil(ctx context.Context, r batch.Request, number int64, who string) (queue.Result, time.Duration) {
	one := *a
	one.streams = &screen.Streams{Out: io.Discard, Err: io.Discard, In: strings.NewReader(""), Quiet: true}
	one.world.order, one.world.behalf, one.kits = number, who, nil
	one.freshen(ctx)
	s, done, err := one.core(ctx)
	if err != nil {
		return a.resultOf(nil, err), 0
	}
	defer done()
	s.Desk.Progress = nil
	ended, err := batch.One(ctx, s.Desk, r)
	later := time.Duration(0)
	if err = fault.WasInterrupted(ctx, err); err != nil && (fault.Of(err).Busy || backoff.Is(err)) {
		later = 10 * time.Second
	}
	return a.resultOf(ended, err), later
}

// resultOf is what is recorded of how an order ended.
func (a *app) resultOf(ended batch.Ended, err error) queue.Result {
	var out queue.Result
	var document any
	switch {
	case err != nil:
		out.Code, document = screen.Code(err), a.streams.Failed(err)
	default:
		if document = endedJSON(ended, false); !ended.OK() {
			out.Code = int(fault.Failed)
		}
	}
	out.Document, _ = json.Marshal(document) // documents of ours always have a form in JSON
	return out
}

// mailEnd mails to whom it is to be told how an order ended.
func (a *app) mailEnd(ctx context.Context, number int64, o queue.Order, result queue.Result) error {
	if o.Tell == "" {
		return nil
	}
	s, done, err := a.core(ctx)
	if err != nil {
		return err
	}
	defer done()
	in, err := s.Book.Home.Account(o.Account)
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
	if why := whyFailed(result); why != "" {
		text += ": " + why
	}
	return s.Desk.SendMail(ctx, in.Mail.Server, mail.Message{From: in.Mail.From, To: o.Tell,
		Subject: fmt.Sprintf("Number %d, %s of %s: %s", number, o.What, o.At, state), Text: screen.Spelled(text) + "\n"})
}

// whyFailed words what an order's command said when it failed; "" where it said nothing.
func whyFailed(r queue.Result) string {
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

// endOf ends what a worker that is gone had begun of an order, and says what is to become of
// that. It is over only if all that it was for is done: what else was done for it, such as the copy
// for a rehearsal, or the first of all that was due, is not.
func (a *app) endOf(ctx context.Context, number int64, o queue.Order) (queue.Ending, error) {
	jobs, err := a.endJobs(ctx, number)
	if err != nil {
		return queue.Ending{}, err
	}
	for _, j := range jobs {
		switch {
		case j.What != o.What || site.IsRehearsal(j.Address):
		case j.Outcome == ledger.Done:
			return queue.Ending{Over: true}, nil
		case j.Outcome == ledger.GivenUp:
			return queue.Ending{Over: true, Result: a.resultOf(nil, fault.New(fault.Incomplete, "its job was given up",
				j.ID+", "+j.Address, "Look at the site; then order it again."))}, nil
		}
	}
	return queue.Ending{}, nil
}

// endJobs ends what was begun for an order: undone, or finished where the site had settled
// already. It gives all of its jobs, the newest first.
func (a *app) endJobs(ctx context.Context, number int64) (of []ledger.Job, err error) {
	s, close, err := a.core(ctx)
	if err != nil {
		return nil, err
	}
	defer close()
	// whoever gave the order wanted the site changed by it; what is put back over is kept first
	s.Desk.Agree = func(context.Context, string) error { return nil }
	jobs, err := s.Book.Ledger.Jobs(ctx, ledger.JobFilter{Order: number})
	if err != nil {
		return nil, err
	}
	for _, j := range jobs {
		if j.Outcome.Unfinished() {
			if err := free(ctx, s, j.ID); err != nil {
				return nil, err
			}
			if j, err = s.Desk.Undo(ctx, j.ID); err != nil {
				return nil, err
			}
		}
		of = append(of, j)
	}
	return of, nil
}

// free takes a journal out of the hand of a program that is gone, or that stands still.
func free(ctx context.Context, s *core.Core, id string) error {
	for range 10 {
		journals := s.Book.Journals.(team.Journals)
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
