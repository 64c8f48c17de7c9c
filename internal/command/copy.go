package command

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/work/place"
)

func (a *app) copySite() *cobra.Command {
	return a.placing(&cobra.Command{
		Use:   "copy SITE --at ADDRESS [flags]",
		Short: "Make a second copy of a site, to try things on",
		Long: "Makes a copy of a site at another directory, domain or account: files, database, user and\n" +
			"configuration anew, and stored addresses rewritten. The copy is marked as one, hidden from\n" +
			"search engines and kept from sending mail where the app can do that.",
		Example: "  tivset copy forum --at lockside.localhost/try",
	}, false)
}

func (a *app) move() *cobra.Command {
	return a.placing(&cobra.Command{
		Use:   "move SITE --at ADDRESS [flags]",
		Short: "Give a site another address",
		Long: "Brings a site to another directory, domain or account, rewrites stored addresses, checks it\n" +
			"there, and only then takes the old place away. With --redirect the old address leads to the\n" +
			"new one.",
		Example: "  tivset move forum --at lockside.localhost/talk --redirect",
	}, true)
}

// placing completes the command of a copy or a move.
func (a *app) placing(c *cobra.Command, move bool) *cobra.Command {
	r, answers := &place.Request{Move: move}, []string{}
	c.Args, c.ValidArgsFunction = takes(1, 1, "SITE --at ADDRESS"), only(a.siteWords)
	c.RunE = a.using(func(ctx context.Context, s *core.Core, args []string) error {
		if r.At == "" {
			return fault.New(fault.Usage, "where to?", args[0], "Say it with --at ADDRESS.")
		}
		given, err := a.given(answers)
		if err != nil {
			return err
		}
		r.Site, r.Account, r.Answers = args[0], a.account, given
		return a.placeSite(ctx, s, *r)
	})
	f := c.Flags()
	f.StringVar(&r.At, "at", "", "the new address: a domain of an account and a directory")
	f.StringArrayVarP(&answers, "answer", "a", nil, "an answer, id=value, such as data.server or occupied")
	if move {
		f.BoolVar(&r.Redirect, "redirect", false, "have the old address lead to the new one")
	}
	option(c, "at", a.domainWords, cobra.ShellCompDirectiveNoSpace)
	return c
}

// placeJSON is the plan of a copy or a move.
type placeJSON struct {
	*plan.Plan
	Closed int `json:"closed_seconds,omitempty"`
}

func (a *app) placeSite(ctx context.Context, s *core.Core, r place.Request) error {
	p, err := place.Look(ctx, s.Desk, r)
	if err != nil {
		return err
	}
	defer p.Close()
	question, what, sentence := "Copy?", "copied", "A copy of "+p.From.Address+" is there and checked."
	if r.Move {
		question, what, sentence = "Move?", "moved", p.From.Title+" has moved and is checked."
	}
	if err := a.agree(ctx, a.streams.ReviewCopy(p), question, placeJSON{p.Plan, p.Closed}); err != nil {
		return err
	}
	done, err := place.Carry(ctx, s.Desk, p)
	a.streams.Say("")
	if err != nil {
		return err
	}
	if a.json {
		return a.streams.WriteJSON(changedJSON{outcomeJSON: outcome(what, done), FromAddress: p.From.Address})
	}
	a.streams.Settled(sentence, done)
	return nil
}
