package command

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tivset/internal/answer"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/queue"
	"tivset/internal/records/team"
	"tivset/internal/screen"
	"tivset/internal/site"
)

// ordering is how what a command would do is put on the team's queue.
type ordering struct {
	on       bool
	priority string
	tell     string
	command  *cobra.Command
}

// flags are the options of what can be put on the queue.
func (o *ordering) flags(c *cobra.Command) {
	o.priority, o.command = "usual", c
	f := c.Flags()
	f.BoolVar(&o.on, "queue", false, "put it on the team's queue, for a worker, and print its number")
	f.StringVar(&o.priority, "priority", o.priority, "with --queue: urgent, usual or late")
	f.StringVar(&o.tell, "tell", "", "with --queue: mail how it ended to this address")
}

// queued lets a command be put on the team's queue in place of being carried out here. One
// that means several sites looks at all of them first, and becomes an order for each.
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
		all, _ := c.Flags().GetBool("all")
		table, _ := c.Flags().GetString("table")
		if all || table != "" || len(args) > 1 && c.Name() != "install" {
			a.ordering = &o
			return run(c, args)
		}
		return a.put(c, args, o)
	}
	return c
}

// here are the options that name what only this machine has, and a worker's answer cannot be.
var here = []string{"save-answers", "results", "into", "copy", "keep-failed", "show-password", "mine"}

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

// queueRequest is one order that is to be put on the queue.
type queueRequest struct {
	what, at, account string
	words             []string
	cannot            error // it cannot be put there, and why
}

// put puts the command that was typed on the queue.
func (a *app) put(c *cobra.Command, args []string, o ordering) error {
	ctx := c.Context()
	w := queueRequest{what: c.Name(), words: words(c, args, nil)}
	if !a.yes {
		if err := a.agreeToOrder(c, w.words); err != nil {
			return err
		}
	}
	s, done, err := a.core(ctx)
	if err != nil {
		return err
	}
	defer done()
	if w.at, w.account, err = a.meantBy(ctx, s, c, args); err != nil {
		return err
	}
	return a.order(ctx, s, []queueRequest{w}, o, func(_ int, n int64, err error) error {
		if err != nil {
			return err
		}
		if a.json {
			return a.streams.WriteJSON(orderJSON{"queued", n, w.what, w.at, nil})
		}
		a.streams.Print("On the queue as number %d. Follow it with: tivset jobs --follow %d", n, n)
		return nil
	})
}

// orderJSON is an order that was put on the queue, or why it was not.
type orderJSON struct {
	Outcome string `json:"outcome"`
	Number  int64  `json:"number,omitempty"`
	What    string `json:"what"`
	At      string `json:"at"`
	Error   any    `json:"error,omitempty"`
}

// putSeveral puts an order for each site on the queue, once all was looked at and agreed to.
// There is said of one that is there already; "" where that is a failure.
func (a *app) putSeveral(ctx context.Context, s *core.Core, wishes []queueRequest, there string) error {
	documents, code := []any{}, 0
	err := a.order(ctx, s, wishes, *a.ordering, func(i int, n int64, err error) error {
		w := wishes[i]
		if err != nil && n > 0 && there != "" {
			documents = append(documents, orderJSON{"there", n, w.what, w.at, nil})
			if !a.json && !a.quiet {
				a.streams.Print("%s: %s, number %d", w.at, there, n)
			}
			return nil
		}
		if err != nil {
			code = max(code, screen.Code(err))
			documents = append(documents, orderJSON{screen.Outcome(err), n, w.what, w.at, a.streams.Failed(err)})
			if !a.json {
				f := fault.Of(err)
				a.streams.Note(strings.TrimSpace(w.at + ": " + f.Error() + ". " + screen.Spelled(f.Remedy)))
			}
			return nil
		}
		documents = append(documents, orderJSON{"queued", n, w.what, w.at, nil})
		if !a.json && !(a.quiet && there != "") { // cron would mail it
			a.streams.Print("%s: number %d", w.at, n)
		}
		return nil
	})
	if err == nil && a.json {
		err = a.streams.WriteJSON(documents)
	}
	if err == nil && code != 0 {
		err = &silent{code}
	}
	switch {
	case err != nil || a.json:
	case len(wishes) == 0 && there == "":
		a.streams.Say("Nothing is put on the queue: all of it is done already.")
	case len(wishes) > 0:
		a.streams.Say("See how they go on with: tivset queue list")
	}
	return err
}

// order puts wishes on the queue, and says of each what became of it.
func (a *app) order(ctx context.Context, s *core.Core, wishes []queueRequest, o ordering, said func(i int, number int64,
	err error) error) error {
	q, p, as, done, err := a.queueOf(ctx)
	if err != nil {
		return err
	}
	defer done()
	if err := a.mayAll(ctx, p.Ledger.(*team.Team)); err != nil {
		return err
	}
	for _, w := range wishes {
		if err := mails(s, w.account, o.tell); w.cannot == nil && err != nil {
			return err
		}
	}
	for i, w := range wishes {
		n, err := int64(0), w.cannot
		if err == nil {
			n, err = a.putOne(ctx, q, p, w, as, o)
		}
		if err := said(i, n, err); err != nil {
			return err
		}
	}
	return nil
}

// mails sees that there is a server to mail through, where somebody is to be told.
func mails(s *core.Core, account, tell string) error {
	if tell == "" {
		return nil
	}
	in, err := s.Book.Home.Account(account)
	if err == nil && in.Mail == nil {
		err = fault.New(fault.Usage, "the account "+account+" has no mail server", "--tell",
			"Write mail: into the account (docs/hosting.md), or leave it out.")
	}
	return err
}

func (a *app) putOne(ctx context.Context, q *queue.Queue, p team.Place, w queueRequest, as string, o ordering) (int64,
	error) {
	call, files, err := packed(w.words)
	if err != nil {
		return 0, err
	}
	defer files.close()
	text, err := json.Marshal(call)
	if err != nil {
		return 0, err
	}
	order := queue.Order{What: w.what, At: w.at, Account: w.account, Who: as, Tell: o.tell}
	if order.Call, err = p.Vault.SealText(text); err != nil {
		return 0, err
	}
	if order.Mark, err = p.Vault.Key(order.Marked()); err != nil {
		return 0, err
	}
	return q.Put(ctx, order, queue.Priorities[o.priority], files.parts(p.Vault))
}

// meantBy is which site an order is about, by its address, and in which account that is.
func (a *app) meantBy(
	ctx context.Context,
	s *core.Core,
	c *cobra.Command,
	args []string,
) (at, account string, err error) {
	to, _ := c.Flags().GetString("at")
	known := ""
	switch {
	case len(args) == 0 || c.Name() == "install":
	case c.Name() == "adopt": // what is there is not on record yet
		to = args[0]
	default:
		known = args[0]
	}
	switch {
	case known == "" && to == "":
		return "", "", fault.New(fault.Usage, "an order is about one site", "--queue",
			"Name one, and its address with --at when it is new.")
	case to == "":
		x, err := s.Book.Find(ctx, known)
		return x.Address, x.Account, err
	}
	in, err := s.Book.Account(a.account, to)
	if err != nil {
		return "", "", err
	}
	p, err := site.Resolve(to, in.Domains)
	return p.Address(), in.Name, err
}

// noWords are options of the place where a command is typed, which its order has not.
var noWords = []string{"queue", "priority", "tell", "yes", "json", "quiet", "verbose", "no-color", "dry-run", "table",
	"results", "all", "at-once"}

// words is a command with its options, as it could be typed. Instead has options as they are
// for one of several sites.
func words(c *cobra.Command, args []string, instead map[string][]string) []string {
	out := append(strings.Fields(c.CommandPath())[1:], args...)
	say := func(name string, values ...string) {
		for _, v := range values {
			out = append(out, fmt.Sprintf("--%s=%s", name, v))
		}
	}
	c.Flags().Visit(func(f *pflag.Flag) {
		_, other := instead[f.Name]
		list, several := f.Value.(pflag.SliceValue)
		switch {
		case other || slices.Contains(noWords, f.Name):
		case several:
			say(f.Name, list.GetSlice()...)
		default:
			say(f.Name, f.Value.String())
		}
	})
	for name, values := range instead {
		say(name, values...)
	}
	return out
}

// agreeToOrder shows what a command would do, where it can, and has it agreed to.
func (a *app) agreeToOrder(c *cobra.Command, words []string) error {
	if !a.streams.Asks() {
		return wantsYes("Look at what it does with --dry-run; then add --yes. Nothing was touched.")
	}
	if c.Annotations[changes] == "" {
		if code := Main(c.Context(), append(slices.Clone(words), "--dry-run"), a.world); code != 0 {
			return &silent{code}
		}
	}
	if !screen.NewAsker(a.streams).Confirm(c.Context(), "Put it on the queue?") {
		return fault.New(fault.NeedsConfirmation, "not done", "", "Nothing was touched.")
	}
	return nil
}
