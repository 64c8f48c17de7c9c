package sites

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/work/batch"
	"tivset/internal/work/place"
	"tivset/internal/work/requests"
)

func (a *app) copySite() *cobra.Command {
	return a.placing(&cobra.Command{
		Use:   "copy SITE --at ADDRESS|--table FILE [options]",
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
		Use:   "move SITE --at ADDRESS [options]",
		Short: "Give a site another address",
		Long: "Brings a site to another directory, domain or account, rewrites stored addresses, checks it\n" +
			"there, and only then takes the old place away. With --redirect the old address leads to the\n" +
			"new one.",
		Example: "  tivset move forum --at lockside.localhost/talk --redirect\n" +
			"  tivset move forum --at lockside.localhost/talk --dry-run",
	}, true)
}

// placing completes the command of a copy or a move.
func (a *app) placing(c *cobra.Command, move bool) *cobra.Command {
	r, answers, o := &place.Request{Move: move}, []string{}, &cli.Selection{Free: true, AtOnce: batch.Usual.Account}
	c.Args, c.ValidArgsFunction = cli.Takes(1, 1, "SITE --at ADDRESS"), cli.Only(a.SiteWords)
	if !move {
		c.Args = func(c *cobra.Command, args []string) error {
			if o.Table != "" {
				return cli.Takes(0, 1, "[SITE] --table FILE")(c, args)
			}
			return cli.Takes(1, 1, "SITE --at ADDRESS")(c, args)
		}
	}
	c.RunE = a.Using(func(ctx context.Context, s *core.Core, args []string) error {
		given, err := a.Given(answers)
		if err != nil {
			return err
		}
		r.Account, r.Answers = a.Account, given
		if o.Table != "" {
			rows, err := a.Rows(ctx, s, args, o)
			if err != nil {
				return err
			}
			requests.Copies(rows, *r)
			return a.Carry(ctx, s, &batch.Batch{Rows: rows}, o, nil)
		}
		if r.At == "" {
			return fault.New(fault.Usage, "where to?", args[0], "Say it with --at ADDRESS.")
		}
		r.Site = args[0]
		return a.Carry(ctx, s, batch.Of(&requests.Place{Request: *r}), o, nil)
	})
	f := c.Flags()
	f.StringVar(&r.At, "at", "", "the new address: a domain of an account and a directory")
	f.StringArrayVarP(&answers, "answer", "a", nil, "an answer, id=value, such as data.server or occupied")
	if !move {
		f.StringVar(&o.Table, "table", "",
			"make every copy of a table (CSV) with the column at, answers, and site where copies are of several; - for "+
				"standard input")
		f.StringVar(&o.Results, "results", "", "with --table: write what came of each row to this file, as CSV")
		f.IntVar(&o.AtOnce, "parallel", batch.Usual.Account, "with --table: how many are made side by side in an account")
	} else {
		f.BoolVar(&r.Redirect, "redirect", false, "have the old address lead to the new one")
	}
	cli.Option(c, "at", a.DomainWords, cobra.ShellCompDirectiveNoSpace)
	return c
}
