package command

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/answer"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/screen"
	"tivset/internal/work/batch"
	"tivset/internal/work/orders"
)

// ordering is how what a command would do is put on the team's queue.
type ordering struct {
	on       bool
	priority string
	tell     string
}

// flags are the options of what can be put on the queue.
func (o *ordering) flags(c *cobra.Command) {
	o.priority = "usual"
	f := c.Flags()
	f.BoolVar(&o.on, "queue", false, "put it on the team's queue, for a worker, and print its number")
	f.StringVar(&o.priority, "priority", o.priority, "with --queue: urgent, usual or late")
	f.StringVar(&o.tell, "tell", "", "with --queue: mail how it ended to this address")
}

// queued lets a command put what it asks for on the team's queue in place of carrying it out here.
func (a *app) queued(c *cobra.Command) *cobra.Command {
	o, run := ordering{}, c.RunE
	o.flags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		if !o.on || a.dryRun { // which changes nothing, and is shown here
			return run(c, args)
		}
		if err := o.valid(c); err != nil {
			return err
		}
		a.ordering = &o
		return run(c, args)
	}
	return c
}

// here are the options that a request has not: they are of this machine, or of how it goes through
// several.
var here = []string{"save-answers", "results", "into", "copy", "keep-failed", "show-password", "mine", "at-once",
	"in-hours"}

// valid sees that it can be done elsewhere.
func (o ordering) valid(c *cobra.Command) error {
	for _, name := range here {
		if f := c.Flags().Lookup(name); f != nil && f.Changed {
			return fault.New(fault.Usage, "--"+name+" is of this machine, and the worker may be another one", "--queue",
				"Leave it out, or do it from here.")
		}
	}
	if _, is := queue.Priorities[o.priority]; !is {
		return fault.New(fault.Usage, "there is no priority “"+o.priority+"”", "--priority", "Say urgent, usual or late.")
	}
	if o.tell != "" {
		if what, remedy := answer.Email(o.tell); what != "" {
			return fault.New(fault.Usage, what, "--tell "+o.tell, remedy)
		}
	}
	return nil
}

// orderJSON is an order that was put on the queue, or why it was not.
type orderJSON struct {
	Outcome string `json:"outcome"`
	Number  int64  `json:"number,omitempty"`
	What    string `json:"what"`
	At      string `json:"at"`
	Error   any    `json:"error,omitempty"`
}

// orderOne puts what is asked of one site on the queue. With --yes nothing but the records is looked at: a
// worker may reach what this machine does not.
func (a *app) orderOne(ctx context.Context, s *core.Core, b *batch.Batch) error {
	r := b.Rows[0]
	where, err := r.Request.Where(ctx, s.Desk)
	if err != nil {
		return err
	}
	if !a.yes {
		if err := a.agreeToOrder(ctx, s, r); err != nil {
			return err
		}
	}
	to, done, err := a.ordersTo(ctx, []batch.Where{where})
	if err != nil {
		return err
	}
	defer done()
	n, err := to.Put(ctx, r.Request, where, queue.Priorities[a.ordering.priority], a.ordering.tell)
	if err != nil {
		return err
	}
	if a.json {
		return a.streams.WriteJSON(orderJSON{"queued", n, r.Request.Kind(), where.Address, nil})
	}
	a.streams.Print("On the queue as number %d. Follow it with: tivset jobs --follow %d", n, n)
	return nil
}

// agreeToOrder shows what a request comes to, and has it agreed to.
func (a *app) agreeToOrder(ctx context.Context, s *core.Core, r *batch.Row) (err error) {
	if !a.streams.Asks() {
		return wantsYes("Look at what it does with --dry-run; then add --yes. Nothing was touched.")
	}
	if r.Plan, err = r.Request.Plan(ctx, s.Desk); err != nil {
		return err
	}
	if review := a.streams.ReviewOf(r.Plan); review != "" {
		a.streams.Say("\n%s", review)
	}
	if !screen.NewAsker(a.streams).Confirm(ctx, "Put it on the queue?") {
		return fault.New(fault.NeedsConfirmation, "not done", "", "Nothing was touched.")
	}
	return nil
}

// orderAll puts an order for each site on the queue, once all was looked at and agreed to.
// There is said of one that is there already; "" where that is a failure.
func (a *app) orderAll(ctx context.Context, s *core.Core, b *batch.Batch, there string) error {
	var rows []*batch.Row
	var at []batch.Where
	for _, r := range b.Rows {
		if r.Err != nil || r.ToDo() {
			rows = append(rows, r)
		}
		if r.ToDo() {
			at = append(at, r.Plan.Where)
		}
	}
	to, done, err := a.ordersTo(ctx, at)
	if err != nil {
		return err
	}
	defer done()
	documents := []any{}
	for _, r := range rows {
		document := orderJSON{Outcome: "queued", What: r.Request.Kind(), At: r.Name()}
		if r.Err == nil {
			document.At = r.Plan.Address
			document.Number, r.Err = to.Put(ctx, r.Request, r.Plan.Where,
				queue.Priorities[a.ordering.priority], a.ordering.tell)
		}
		if r.Err != nil && document.Number > 0 && there != "" {
			r.Err, document.Outcome = nil, "there"
		}
		if r.Err != nil {
			document.Outcome, document.Error = screen.Outcome(r.Err), a.streams.Failed(r.Err)
		}
		documents = append(documents, document)
		a.sayOrdered(r, document, there)
	}
	if a.json {
		err = a.streams.WriteJSON(documents)
	} else if len(rows) > 0 {
		a.streams.Say("See how they go on with: tivset queue list")
	} else if there == "" {
		a.streams.Say("Nothing is put on the queue: all of it is done already.")
	}
	if code := worst(b); err == nil && code != 0 {
		err = &silent{code}
	}
	return err
}

// sayOrdered says what became of one of several orders. Where it is no failure that one is there
// already, cron asks, which would mail every line.
func (a *app) sayOrdered(r *batch.Row, o orderJSON, there string) {
	switch quiet := a.quiet && there != ""; {
	case a.json:
	case r.Err != nil:
		f := fault.Of(r.Err)
		a.streams.Note(strings.TrimSpace(o.At + ": " + f.Error() + ". " + screen.Spelled(f.Remedy)))
	case quiet:
	case o.Outcome == "there":
		a.streams.Print("%s: %s, number %d", o.At, there, o.Number)
	default:
		a.streams.Print("%s: number %d", o.At, o.Number)
	}
}

// ordersTo opens the queue to put orders there for those sites.
func (a *app) ordersTo(ctx context.Context, at []batch.Where) (to *orders.Place, done func(), err error) {
	to = &orders.Place{}
	if to.Queue, to.Records, to.As, done, err = a.queueOf(ctx); err != nil {
		return nil, nil, err
	}
	err = a.mayAll(ctx, to.Records.Ledger.(*team.Team))
	for _, where := range at {
		if err == nil && a.ordering.tell != "" && where.Account.Mail == nil {
			err = fault.New(fault.Usage, "the account "+where.Account.Name+" has no mail server", "--tell",
				"Write mail: into the account (docs/hosting.md), or leave it out.")
		}
	}
	if err != nil {
		done()
	}
	return to, done, err
}
