package sites

import (
	"context"
	"maps"

	"github.com/spf13/cobra"

	"tivset/internal/answer"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/screen"
	"tivset/internal/site"
	"tivset/internal/wizard"
	"tivset/internal/work/adopt"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
)

func (a *app) adopt() *cobra.Command {
	var answers []string
	o := &cli.Selection{Free: true}
	c := &cobra.Command{
		Use:   "adopt ADDRESS|--table FILE -a admin.name=NAME -a admin.password=@FILE",
		Short: "Manage an app that was installed by other means",
		Long: "Finds an app by its kit's marks, reads its configuration for database and addresses, signs in,\n" +
			"and from then on looks after the site like one of its own. Nothing of the site is changed.",
		Example: "  tivset adopt lockside.localhost/forum -a admin.name=wharfinger -a admin.password=@-\n" +
			"  tivset adopt --table found.csv",
		Args: func(c *cobra.Command, args []string) error {
			if o.Table != "" {
				return cli.Takes(0, 0, "--table FILE")(c, args)
			}
			return cli.Takes(1, 1, "ADDRESS")(c, args)
		},
		Annotations: cli.NoDryRun(), ValidArgsFunction: cli.Only(a.DomainWords),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			given, err := a.Given(answers)
			if err != nil {
				return err
			}
			if o.Table != "" {
				o.Site = "at"
				rows, err := a.Rows(ctx, s, nil, o)
				if err != nil {
					return err
				}
				requests.Adoptions(rows, a.Account, given)
				return a.Carry(ctx, s, &batch.Batch{Rows: rows}, o, nil)
			}
			r := &requests.Adopt{Request: adopt.Request{At: args[0], Account: a.Account, Answers: given}}
			return a.Carry(ctx, s, batch.Of(r), o, func(err error) (batch.Request, error) {
				missing := fault.Of(err).Missing
				if len(missing) == 0 || !a.Streams.Asks() {
					return nil, err
				}
				more := *r
				more.Answers, err = a.askedFor(ctx, given, missing)
				return &more, err
			})
		}),
	}
	f := c.Flags()
	f.StringArrayVarP(&answers, "answer", "a", nil,
		"an answer, id=value; id=@FILE reads a file, id=@- standard input")
	f.StringVar(&o.Table, "table", "", "the sites of a table (CSV) with the column at, and answers, as tivset find "+
		"--results writes it; - for standard input")
	f.StringVar(&o.Results, "results", "", "with --table: write what came of each row to this file, as CSV")
	f.IntVar(&o.AtOnce, "parallel", batch.Usual.Account,
		"with --table: how many sites of an account are looked at side by side")
	return c
}

// askedFor asks for answers that are missing: names as they are typed, passwords
// unseen.
func (a *app) askedFor(ctx context.Context, given answer.Given, missing []string) (answer.Given, error) {
	out := answer.Given{}
	maps.Copy(out, given)
	asker := screen.NewAsker(a.Streams)
	for _, id := range missing {
		if out[id] != "" {
			continue
		}
		prompt := wizard.Prompt{Text: "The admin's name in the app"}
		if id == site.AdminPassword {
			prompt = wizard.Prompt{Text: "The admin's password, as it is in the app", Unseen: true}
		}
		var err error
		if out[id], err = asker.Ask(ctx, prompt); err != nil {
			return nil, err
		}
	}
	return out, nil
}
