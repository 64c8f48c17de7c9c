package team

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/fault"
	"tivset/internal/records/outbox"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/screen"
	"tivset/internal/work"
	"tivset/internal/work/batch"
	"tivset/internal/work/orders"
)

func (a *app) worker() *cobra.Command {
	w, patient := &queue.Worker{AtOnce: 2, Lease: queue.UsualLease}, false
	c := &cobra.Command{
		Use:   "worker [--parallel N] [--accounts A,B]",
		Short: "Do what is on the team's queue, until Ctrl-C",
		Long: "Takes requests from the queue and carries them out, on as many machines as one likes. A worker that\n" +
			"gives no sign of life any more is noticed: another one ends what it had begun (undone, or finished\n" +
			"when the site was there), and does it again. One that could not reach the database, or stood still\n" +
			"with its machine, ends what it is at and begins anew. With --accounts it works for those alone, and\n" +
			"as long as it does, no other worker does: such as for files of its own machine. Ctrl-C takes no more\n" +
			"requests, and ends when those that are under way have ended.",
		Example: "  tivset worker --parallel 4\n  tivset worker --accounts quillmere",
		Args:    cli.Takes(0, 0, ""), Annotations: cli.NoDryRun(),
		RunE: func(c *cobra.Command, _ []string) error {
			if w.AtOnce < 1 {
				return fault.New(fault.Usage, "at least one request has to be taken at once", "--parallel",
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
	cli.Option(c, "accounts", a.AccountWords, 0)
	c.Flags().BoolVar(&patient, "anew", false, "wait for the database as long as it takes")
	_ = c.Flags().MarkHidden("anew")
	c.Flags().IntVar(&w.AtOnce, "parallel", w.AtOnce, "how many requests are carried out side by side")
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
		q, p, as, done, err = a.QueueOf(ctx)
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
	a.Streams.Note("this worker stood still, or could not reach the database, for nearly as long as its lease of " +
		lease.String() + ": others take over what it had, and it begins anew")
	words := slices.DeleteFunc(slices.Clone(a.Args), func(word string) bool { return word == "--anew" })
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
	if err := a.May(ctx, p.Ledger.(*team.Team), trust.Operate); err != nil {
		return err
	}
	a.World.Team = p.Ledger.(*team.Team) // for all that is done from here on
	for _, name := range w.Accounts {
		if _, err := p.Home.Account(name); err != nil {
			return err
		}
	}
	w.ID = fmt.Sprintf("%s %s %d", as, a.World.Now().UTC().Format("20060102-150405.000"), os.Getpid())
	carrier := &orders.Carrier{ID: w.ID, Place: orders.Place{Queue: q, Records: p, As: as}, Service: a.serving,
		Result: a.resultOf,
		Note:   a.Streams.Note}
	w.Do, w.Refused, w.OnPanic, w.End = carrier.Do, carrier.Refused, carrier.Panicked, carrier.End
	w.Ended = func(ctx context.Context, number int64, o queue.Order, result queue.Result) {
		if err := carrier.Mail(ctx, number, o, result); err != nil {
			a.Streams.Note(fmt.Sprintf("%s was not told how number %d ended: %v", o.Tell, number, err))
		}
	}
	w.BatchEnded = func(ctx context.Context, b queue.Ended) {
		if err := carrier.MailBatch(ctx, b); err != nil {
			a.Streams.Note(fmt.Sprintf("%s was not told how number %d ended: %v", b.Tell, b.Number, err))
		}
	}
	w.Stuck = func(number int64, err error) {
		f := fault.Of(err)
		a.Streams.Note(fmt.Sprintf("number %d, of a worker that is gone, cannot be ended now, and is tried again: %s. %s",
			number, f.Error(), screen.Spelled(f.Remedy)))
	}
	var once sync.Once
	w.OnLeaseLost = func() { once.Do(func() { a.gone(w.Lease) }) }
	w.Told = func(what string, number int64, o queue.Order) {
		a.Streams.Say("%s  %s %s",
			a.World.Now().Format("2006-01-02 15:04:05"), what, orderName(number, o))
	}
	go a.sendingOut(ctx)
	a.Streams.Say("Working for the team at %s, %d at once, as %s. Ctrl-C ends it.", p.Ledger.(*team.Team).Address(),
		w.AtOnce, w.ID)
	return q.Work(ctx, w)
}

// sends is how often a worker looks whether something of its machine waits to be told.
const sends = time.Minute

// sendingOut sends what waits, for as long as the worker works.
func (a *app) sendingOut(ctx context.Context) {
	each := time.NewTicker(sends)
	defer each.Stop()
	for {
		if letters, _ := outbox.At(a.World.Home()).Letters(); len(letters) > 0 {
			if d, done, err := a.serving(ctx, 0, ""); err == nil {
				d.SendOut(ctx)
				done()
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-each.C:
		}
	}
}

// serving is what carries out an order, and shows nothing of it.
func (a *app) serving(ctx context.Context, order int64, who string) (*work.Service, func(), error) {
	one := *a.App
	one.Streams = &screen.Streams{Out: io.Discard, Err: io.Discard, In: strings.NewReader(""), Quiet: true}
	one.World.Order, one.World.Behalf, one.Kits = order, who, nil
	one.Freshen(ctx)
	s, done, err := one.Core(ctx)
	if err != nil {
		return nil, nil, err
	}
	s.Desk.Progress = nil
	return s.Desk, done, nil
}

// resultOf is what is recorded of how an order ended.
func (a *app) resultOf(ended batch.Ended, err error) queue.Result {
	var out queue.Result
	var document any
	switch {
	case err != nil:
		out.Code, document = screen.Code(err), a.Streams.Failed(err)
	default:
		if document = cli.EndedJSON(ended, false); !ended.OK() {
			out.Code = int(fault.Failed)
		}
	}
	out.Document, _ = json.Marshal(document) // documents of ours always have a form in JSON
	return out
}
