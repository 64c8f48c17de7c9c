package upkeep

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
)

func (a *app) check() *cobra.Command {
	mend, mine, o := false, []string(nil), &cli.Selection{}
	c := &cobra.Command{
		Use:   "check [SITE…] [--repair] [--mine FILE]",
		Short: "See whether sites work",
		Long: "Looks at sites as a visitor, as their admin and as a stranger: front page, sign-in, database,\n" +
			"files that must not be shown; compares their files with the release's checksums; and sees to\n" +
			"permissions, leftovers, space, certificate, timers and overdue updates. Without a site, all of\n" +
			"them. Exit code 1 when something is not right. --repair puts the release's own files back. --mine\n" +
			"says that a script, or those in a folder, were added on purpose; until they change.",
		Example: "  tivset check\n  tivset check lockside.localhost/forum --json\n  tivset check forum --repair\n" +
			"  tivset check forum --mine plugins/tide-tables",
		Annotations: cli.NoDryRun(), ValidArgsFunction: cli.Only(a.SiteWords),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			if err := cli.NotBoth("--repair", mend, "--mine", len(mine) > 0); err != nil {
				return err
			}
			if mend || a.Ordering != nil {
				chosen := *o
				chosen.All = o.All || !mend && len(args) == 0 && o.Table == ""
				b, err := a.Asked(ctx, s, args, &chosen, func(row *batch.Row) batch.Request {
					if mend {
						return &requests.Repair{Site: row.Site}
					}
					return &requests.Check{Site: row.Site}
				})
				if err != nil {
					return err
				}
				return a.Carry(ctx, s, b, &chosen, nil)
			}
			if o.Table != "" {
				rows, err := a.Rows(ctx, s, args, o)
				if err != nil {
					return err
				}
				args = cli.Named(rows)
			}
			sites, err := batch.Sites(ctx, s.Book, args, a.Account)
			if err == nil && len(mine) > 0 {
				sites, err = vouched(ctx, s, sites, args, mine)
			}
			if err != nil {
				return err
			}
			return a.checkSites(ctx, s, sites)
		}),
	}
	cli.AllOf(c, &o.All)
	c.Flags().StringVar(&o.Table, "table", "", "the sites of a table (CSV) with the column site; - for standard input")
	o.AtOnce = batch.Usual.Account
	c.Flags().BoolVar(&mend, "repair", false, "put the release's own files back, after a backup")
	c.Flags().StringArrayVar(&mine, "mine", nil, "a program of your own, or a folder of such, from the site's folder")
	return c
}

// vouched notes which programs of a site are the owner's.
func vouched(ctx context.Context, s *core.Core, sites []ledger.Site, args, mine []string) ([]ledger.Site, error) {
	if len(args) != 1 {
		return nil, fault.New(fault.Usage, "which site?", "--mine", "Name one: tivset check SITE --mine FILE")
	}
	x, err := s.Examiner.Vouch(ctx, sites[0], mine)
	return []ledger.Site{x}, err
}

func (a *app) checkSites(ctx context.Context, s *core.Core, sites []ledger.Site) error {
	all, err := s.Examiner.CheckAll(ctx, sites)
	if err != nil {
		return err
	}
	fine := requests.Checked(all).OK()
	switch {
	case a.JSON:
		if err := a.Streams.WriteJSON(cli.EndedJSON(requests.Checked(all), false)); err != nil {
			return err
		}
	case len(sites) == 0:
		a.Streams.Say("No site is installed yet. See what there is with: tivset browse")
	default:
		a.CheckTable(all)
	}
	if !fine {
		return cli.Quiet(int(fault.Failed))
	}
	return nil
}
