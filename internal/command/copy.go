package command

import (
	"context"
	"slices"

	"github.com/spf13/cobra"

	"tivset/internal/answer"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/work"
	"tivset/internal/work/batch"
	"tivset/internal/work/place"
)

func (a *app) copySite() *cobra.Command {
	return a.placing(&cobra.Command{
		Use:   "copy SITE --at ADDRESS|--table FILE [flags]",
		Short: "Make a second copy of a site, to try things on",
		Long: "Makes a copy of a site at another directory, domain or account: files, database, user and\n" +
			"configuration anew, and stored addresses rewritten. The copy is marked as one, hidden from\n" +
			"search engines and kept from sending mail where the app can do that.",
		Example: "  tivset copy forum --at lockside.localhost/try\n" +
			"  tivset copy class --table course.csv -a title=\"Class {number}\"",
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
	r, answers, o := &place.Request{Move: move}, []string{}, &selection{free: true}
	c.Args, c.ValidArgsFunction = takes(1, 1, "SITE --at ADDRESS"), only(a.siteWords)
	if !move {
		c.Args = func(c *cobra.Command, args []string) error {
			if o.table != "" {
				return takes(0, 1, "[SITE] --table FILE")(c, args)
			}
			return takes(1, 1, "SITE --at ADDRESS")(c, args)
		}
	}
	c.RunE = a.using(func(ctx context.Context, s *core.Core, args []string) error {
		given, err := a.given(answers)
		if err != nil {
			return err
		}
		r.Account, r.Answers = a.account, given
		if o.table != "" {
			return a.copySeveral(ctx, s, args, o, *r)
		}
		if r.At == "" {
			return fault.New(fault.Usage, "where to?", args[0], "Say it with --at ADDRESS.")
		}
		r.Site = args[0]
		return a.placeSite(ctx, s, *r)
	})
	f := c.Flags()
	f.StringVar(&r.At, "at", "", "the new address: a domain of an account and a directory")
	f.StringArrayVarP(&answers, "answer", "a", nil, "an answer, id=value, such as data.server or occupied")
	if !move {
		f.StringVar(&o.table, "table", "",
			"make every copy of a table (CSV) with the column at, answers, and site where copies are of several; - for "+
				"standard input")
		f.StringVar(&o.results, "results", "", "with --table: write what came of each row to this file, as CSV")
		f.IntVar(&o.atOnce, "at-once", batch.Usual.Account, "with --table: how many are made side by side in an account")
	} else {
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

// copySeveral makes copies from a table, side by side; one that fails is undone, and the
// others go on.
func (a *app) copySeveral(ctx context.Context, s *core.Core, words []string, o *selection, all place.Request) error {
	rows, err := a.rows(ctx, s, words, o)
	if err != nil {
		return err
	}
	return a.several(ctx, s, rows, o, "Copy %s?", func(ctx context.Context, row siteRow) (prepared, error) {
		r := copyOf(row, all)
		if r.At == "" {
			return prepared{}, fault.Join("", "", []fault.Problem{{ID: "at", What: fault.Needed, Remedy: "Fill it in."}})
		}
		p, err := place.Look(ctx, s.Desk, r)
		if err != nil {
			return prepared{at: r.At}, err
		}
		l := prepared{
			at:       p.Place.URL,
			address:  p.Address(),
			review:   a.streams.ReviewCopy(p),
			document: placeJSON{p.Plan, p.Closed},
			account:  p.In,
			folder:   p.Place.Folder,
			bytes:    p.Changes.Bytes,
		}
		if p.Data != nil {
			l.server = p.Data.Server
		}
		l.options = map[string][]string{"at": {r.At}, "answer": answered(r.Answers)}
		l.do = func(ctx context.Context, d *work.Service) (ended, error) {
			done, err := place.Carry(ctx, d, p)
			if err != nil {
				return ended{}, err
			}
			return ended{"copied", "a copy of " + p.From.Address + ", checked",
				changedJSON{outcomeJSON: outcome("copied", done), FromAddress: p.From.Address}}, nil
		}
		l.close = p.Close
		return l, nil
	})
}

// copyOf is a row as one copy.
func copyOf(row siteRow, all place.Request) place.Request {
	r := all
	r.Site, r.At, r.Answers = row.Site, row.Fill(row.value("at", all.At)), answer.Given{}
	used := map[string]bool{}
	for id, text := range all.Answers {
		r.Answers[id] = row.Fill(text)
		for _, name := range row.Used(text) {
			used[name] = true
		}
	}
	for _, name := range row.Used(row.value("at", all.At)) {
		used[name] = true
	}
	for name, value := range row.Values {
		if value != "" && name != "at" && !slices.Contains(siteColumns, name) && !used[name] {
			r.Answers[name] = value
		}
	}
	return r
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
