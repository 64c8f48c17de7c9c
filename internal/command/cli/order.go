package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/answer"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/screen"
	"tivset/internal/work/batch"
	"tivset/internal/work/orders"
)

// Ordering is how what a command would do is put on the team's queue.
type Ordering struct {
	On       bool
	priority string
	tell     string
}

// Flags are the options of what can be put on the queue.
func (o *Ordering) Flags(c *cobra.Command) {
	o.priority = "normal"
	f := c.Flags()
	f.BoolVar(&o.On, "queue", false, "put it on the team's queue, for a worker, and print its number")
	f.StringVar(&o.priority, "priority", o.priority, "with --queue: urgent, normal or low")
	f.StringVar(&o.tell, "tell", "", "with --queue: mail how it ended to this address")
}

// Queued lets a command put what it asks for on the team's queue in place of carrying it out here.
func (a *App) Queued(c *cobra.Command) *cobra.Command {
	o, run := Ordering{}, c.RunE
	o.Flags(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		if !o.On || a.DryRun { // which changes nothing, and is shown here
			return run(c, args)
		}
		if err := o.Valid(c); err != nil {
			return err
		}
		a.Ordering = &o
		return run(c, args)
	}
	return c
}

// here are the options that a request has not: they are of this machine, or of how it goes through
// several.
var here = []string{"save-answers", "results", "into", "copy", "keep-failed", "show-password", "mine", "accept",
	"rules", "list-files", "parallel", "in-hours"}

// Valid sees that it can be done elsewhere.
func (o Ordering) Valid(c *cobra.Command) error {
	for _, name := range here {
		if f := c.Flags().Lookup(name); f != nil && f.Changed {
			return fault.New(fault.Usage, "--"+name+" is of this machine, and the worker may be another one", "--queue",
				"Leave it out, or do it from here.")
		}
	}
	if _, is := queue.Priorities[o.priority]; !is {
		return fault.New(fault.Usage, "there is no priority “"+o.priority+"”", "--priority", "Say urgent, normal or low.")
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
	Batch   int64  `json:"batch,omitempty"`
	What    string `json:"what"`
	At      string `json:"at"`
	Error   any    `json:"error,omitempty"`
}

// orderOne puts what is asked of one site on the queue. With --yes nothing but the records is looked at: a
// worker may reach what this machine does not.
func (a *App) orderOne(ctx context.Context, s *core.Core, b *batch.Batch) error {
	r := b.Rows[0]
	where, err := r.Request.Where(ctx, s.Desk)
	if err != nil {
		return err
	}
	if !a.Yes {
		if err := a.agreeToOrder(ctx, s, r); err != nil {
			return err
		}
	}
	to, done, err := a.ordersTo(ctx, []batch.Where{where})
	if err != nil {
		return err
	}
	defer done()
	n, err := to.Put(ctx, r.Request, where, a.Ordering.how(0))
	if err != nil {
		return err
	}
	a.nobodyWorks(ctx, to.Queue, where.Account.Name)
	if a.JSON {
		return a.Streams.WriteJSON(orderJSON{"queued", n, 0, r.Request.Kind(), where.Address, nil})
	}
	a.Streams.Print("On the queue as number %d. Follow it with: tivset jobs --follow %d", n, n)
	return nil
}

// how is how requests are put on the queue.
func (o Ordering) how(together int64) orders.How {
	return orders.How{Priority: queue.Priorities[o.priority], Tell: o.tell, Batch: together}
}

// nobodyWorks warns where no worker lives that would take what was put on the queue.
func (a *App) nobodyWorks(ctx context.Context, q *queue.Queue, account string) {
	if n, err := q.Alive(ctx, account); err == nil && n == 0 {
		a.Streams.Warn("no worker is at work that would take it: it waits until one is begun, with tivset worker")
	}
}

// agreeToOrder shows what a request comes to, and has it agreed to.
func (a *App) agreeToOrder(ctx context.Context, s *core.Core, r *batch.Row) (err error) {
	if !a.Streams.Asks() {
		return WantsYes("Look at what it does with --dry-run; then add --yes. Nothing was touched.")
	}
	if r.Plan, err = r.Request.Plan(ctx, s.Desk); err != nil {
		return err
	}
	if review := a.Streams.ReviewOf(r.Plan); review != "" {
		a.Streams.Say("\n%s", review)
	}
	if !screen.NewAsker(a.Streams).Confirm(ctx, "Put it on the queue?") {
		return fault.New(fault.NeedsConfirmation, "not done", "", "Nothing was touched.")
	}
	return nil
}

// orderUnseen puts several requests on the queue of somebody who may not open the accounts: they are looked at by
// whoever carries them out, as one is.
func (a *App) orderUnseen(ctx context.Context, s *core.Core, b *batch.Batch) error {
	for _, r := range b.Rows {
		where, err := r.Request.Where(ctx, s.Desk)
		if r.Err = err; err == nil {
			r.Plan = &batch.Plan{Where: where}
		}
	}
	return a.OrderAll(ctx, s, b, "")
}

// OrderAll puts an order for each site on the queue, once all was looked at and agreed to.
// There is said of one that is there already; "" where that is a failure.
func (a *App) OrderAll(ctx context.Context, s *core.Core, b *batch.Batch, there string) error {
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
	var together int64
	if len(at) > 1 {
		if together, err = to.Queue.NewBatch(ctx); err != nil {
			return err
		}
	}
	if len(at) > 0 && there == "" { // cron is to mail nothing
		a.nobodyWorks(ctx, to.Queue, at[0].Account.Name)
	}
	documents := []any{}
	for _, r := range rows {
		document := orderJSON{Outcome: "queued", Batch: together, What: r.Request.Kind(), At: r.Name()}
		if r.Err == nil {
			document.At = r.Plan.Address
			document.Number, r.Err = to.Put(ctx, r.Request, r.Plan.Where, a.Ordering.how(together))
		}
		if r.Err != nil && document.Number > 0 && there != "" {
			r.Err, document.Outcome = nil, "there"
		}
		if r.Err != nil {
			document.Outcome, document.Error = screen.Outcome(r.Err), a.Streams.Failed(r.Err)
		}
		documents = append(documents, document)
		a.sayOrdered(r, document, there)
	}
	if a.JSON {
		err = a.Streams.WriteJSON(documents)
	} else if together > 0 {
		a.Streams.Say("All of them are number %[1]d. Follow them with: tivset jobs --follow %[1]d", together)
	} else if len(rows) > 0 {
		a.Streams.Say("See how they go on with: tivset queue list")
	} else if there == "" {
		a.Streams.Say("Nothing is put on the queue: all of it is done already.")
	}
	if code := worst(b); err == nil && code != 0 {
		err = Quiet(code)
	}
	return err
}

// sayOrdered says what became of one of several orders. Where it is no failure that one is there
// already, cron asks, which would mail every line.
func (a *App) sayOrdered(r *batch.Row, o orderJSON, there string) {
	switch quiet := a.Quiet && there != ""; {
	case a.JSON:
	case r.Err != nil:
		f := fault.Of(r.Err)
		a.Streams.Note(strings.TrimSpace(o.At + ": " + f.Error() + ". " + screen.Spelled(f.Remedy)))
	case quiet:
	case o.Outcome == "there":
		a.Streams.Print("%s: %s, number %d", o.At, there, o.Number)
	default:
		a.Streams.Print("%s: number %d", o.At, o.Number)
	}
}

// ordersTo opens the queue to put orders there for those sites.
func (a *App) ordersTo(ctx context.Context, at []batch.Where) (to *orders.Place, done func(), err error) {
	to = &orders.Place{}
	if to.Queue, to.Records, to.As, done, err = a.QueueOf(ctx); err != nil {
		return nil, nil, err
	}
	err = a.May(ctx, to.Records.Ledger.(*team.Team), trust.Request)
	for _, where := range at {
		if err == nil && a.Ordering.tell != "" && where.Account.Mail == nil {
			err = fault.New(fault.Usage, "the account "+where.Account.Name+" has no mail server", "--tell",
				"Write mail: into the account (docs/hosting.md), or leave it out.")
		}
	}
	if err != nil {
		done()
	}
	return to, done, err
}

func NoQueue() error {
	return fault.New(fault.Usage, "there is a queue only in a team's database", "",
		"Bring the ledger there first: "+fault.Call("ledger", "use", "postgres://…"))
}

// May sees that this machine may do something in its team.
func (a *App) May(ctx context.Context, t *team.Team, least trust.Role) error {
	me, err := a.Known(ctx, t, a.World.Home())
	if err == nil && !me.May.May(least) {
		err = fault.NewAs(fault.MayOnlyLook, fault.NeedsConfirmation, "this machine may not do that in the team: it may "+
			string(me.May), t.Address(), "Ask somebody of the team who may. Nothing was touched.")
	}
	return err
}

// QueueOf opens the team's queue.
func (a *App) QueueOf(ctx context.Context) (q *queue.Queue, p team.Place, as string, done func(), err error) {
	p, as, done, err = a.Records(ctx)
	if err != nil {
		return nil, p, "", nil, err
	}
	t, is := p.Ledger.(*team.Team)
	if !is {
		done()
		return nil, p, "", nil, NoQueue()
	}
	if q, err = queue.Open(ctx, t); err != nil {
		done()
		return nil, p, "", nil, err
	}
	return q, p, as, done, nil
}
