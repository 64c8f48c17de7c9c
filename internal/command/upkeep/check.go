package upkeep

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/check"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
)

func (a *app) check() *cobra.Command {
	mend, rules, mine, accept, o := false, false, []string(nil), []string(nil), &cli.Selection{}
	c := &cobra.Command{
		Use:   "check [SITE…] [--repair] [--mine FILE] [--accept CHECK] [--rules]",
		Short: "See whether sites work",
		Long: "Looks at sites as a visitor, as their admin and as a stranger: front page, sign-in, database,\n" +
			"files that must not be shown; compares their files with the release's checksums; and sees to\n" +
			"permissions, leftovers, space, certificate, timers and overdue updates. Without a site, all of\n" +
			"them. Exit code 1 when something is not right. --repair puts the release's own files back. --mine\n" +
			"says that a script, or those in a folder, were added on purpose; until they change. --rules prints\n" +
			"what the host has to set so that strangers see nothing of what they must not; --accept lives with\n" +
			"what they see (private-files, folder-listings, caches), until it is more.",
		Example: "  tivset check\n  tivset check lockside.localhost/forum --json\n  tivset check forum --repair\n" +
			"  tivset check forum --mine plugins/tide-tables\n  tivset check forum --rules\n" +
			"  tivset check forum --accept folder-listings",
		Annotations: cli.NoDryRun(), ValidArgsFunction: cli.Only(a.SiteWords),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			for other, is := range map[string]bool{"--mine": len(mine) > 0, "--accept": len(accept) > 0, "--rules": rules} {
				if err := cli.NotBoth("--repair", mend, other, is); err != nil {
					return err
				}
			}
			if rules {
				return a.rules(ctx, s, args)
			}
			args, err := a.Chosen(ctx, s, args, o)
			if err != nil {
				return err
			}
			o.Where = nil
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
				sites, err = noted(sites, args, "--mine FILE", func(x ledger.Site) (ledger.Site, error) {
					return s.Examiner.Vouch(ctx, x, cli.NamesOf(mine))
				})
			}
			if err == nil && len(accept) > 0 {
				sites, err = noted(sites, args, "--accept CHECK", func(x ledger.Site) (ledger.Site, error) {
					return s.Examiner.Accept(ctx, x, accept)
				})
			}
			if err != nil {
				return err
			}
			return a.checkSites(ctx, s, sites)
		}),
	}
	cli.AllOf(c, o)
	c.Flags().StringVar(&o.Table, "table", "", "the sites of a table (CSV) with the column site; - for standard input")
	o.AtOnce = batch.Usual.Account
	c.Flags().BoolVar(&mend, "repair", false, "put the release's own files back, after a backup")
	c.Flags().StringArrayVar(&mine, "mine", nil, "a program of your own, or a folder of such, from the site's folder")
	c.Flags().StringArrayVar(&accept, "accept", nil, "live with what strangers see: "+
		"private-files, folder-listings or caches")
	c.Flags().BoolVar(&rules, "rules", false, "print what the host has to set, for nginx, Apache and LiteSpeed")
	return c
}

// noted notes what the owner says of the one site that is named.
func noted(sites []ledger.Site, args []string, option string,
	note func(ledger.Site) (ledger.Site, error)) ([]ledger.Site, error) {
	if len(args) != 1 {
		return nil, fault.New(fault.Usage, "which site?", strings.Fields(option)[0],
			"Name one: "+fault.Call("check", "SITE", option))
	}
	x, err := note(sites[0])
	return []ledger.Site{x}, err
}

// rules prints what the host of one site has to set.
func (a *app) rules(ctx context.Context, s *core.Core, args []string) error {
	sites, err := batch.Sites(ctx, s.Book, args, a.Account)
	if err != nil {
		return err
	}
	if len(args) != 1 {
		return fault.New(fault.Usage, "which site?", "--rules", "Name one: "+fault.Call("check", "SITE", "--rules"))
	}
	of, err := s.Book.From(sites[0])
	if err != nil {
		return err
	}
	all, err := check.RulesFor(of)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"site": sites[0].Address, "rules": all})
	}
	a.Streams.Print("For the host of %s: so that strangers see nothing of what they must not.", sites[0].URL)
	for _, r := range all {
		a.Streams.Print("\n# %s, %s:\n%s", r.Server, r.Where, strings.TrimSuffix(r.Text, "\n"))
	}
	return nil
}

func (a *app) checkSites(ctx context.Context, s *core.Core, sites []ledger.Site) error {
	tell, end := a.Streams.Looking(len(sites))
	all, err := s.Examiner.CheckAll(ctx, sites, tell)
	end()
	if err != nil && len(all) == 0 {
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
	if err != nil { // what was seen until then is shown
		return err
	}
	if !fine {
		return cli.Quiet(int(fault.Failed))
	}
	return nil
}
