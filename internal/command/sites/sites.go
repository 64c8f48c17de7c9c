package sites

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/sites"
)

func (a *app) sites() *cobra.Command {
	o, redirects, again, notOurs, wide := sites.Listing{}, false, false, false, false
	where, save := []string{}, ""
	c := &cobra.Command{
		Use:   "sites [WORD…] [options]",
		Short: "List the installed sites",
		Long: "Lists the sites that are known: those whose address, title, app or account have every word in\n" +
			"them. With --fresh their accounts are looked at first: sizes, and whether the sites are there.\n" +
			"With --rebuild sites that are not on record any more are found again, after the ledger was lost\n" +
			"or damaged, by what the accounts, their backups and the vault say; with --not-ours by backups too\n" +
			"that another machine's vault made, whose admins then get new passwords.",
		Example: "  tivset sites\n  tivset sites forum --sort size\n  tivset sites --newer --json",
	}
	list := a.Using(func(ctx context.Context, s *core.Core, words []string) error {
		if redirects {
			return a.redirects(ctx, s)
		}
		o.Words, o.Account = words, a.Account
		if len(where) > 0 {
			matching, err := a.Matching(ctx, s, where)
			if err != nil {
				return err
			}
			if o.Only = matching; save != "" {
				if err := a.World.Home().KeepSelection(save, where); err != nil {
					return err
				}
			}
		}
		found, err := s.Sites.List(ctx, o)
		if err != nil {
			return err
		}
		for _, why := range found.Unseen {
			a.unseen(why)
		}
		if a.JSON {
			return a.Streams.WriteJSON(found.Sites)
		}
		if len(found.Sites) > 0 {
			a.SayIdle(ctx, s)
		}
		a.Streams.Sites(found.Sites, len(words) > 0 || len(where) > 0 || o.Newer || o.App != "" || o.Health != "", wide)
		if len(found.Sites) == 0 && len(words) == 0 && o.App == "" && o.Health == "" && !o.Newer && a.Account == "" {
			a.lostSites(s)
		}
		return a.tellOfRedirects(ctx, s)
	})
	c.RunE = func(c *cobra.Command, words []string) error {
		if notOurs && !again {
			return fault.New(fault.Usage, "--not-ours goes with --rebuild only", "--not-ours",
				"Say what is to be recorded again: "+fault.Call("sites", "--rebuild", "--not-ours"))
		}
		if again {
			return a.rebuild(c, notOurs)
		}
		return list(c, words)
	}
	cli.Where(c, &where)
	f := c.Flags()
	f.StringVar(&save, "save-as", "", "with --where: keep it under this name, for --where @NAME")
	f.StringVar(&o.Sort, "sort", "", "by "+strings.Join(sites.Sorts(), ", ")+" (address when left out)")
	f.BoolVar(&o.Reverse, "reverse", false, "the other way round")
	f.StringVar(&o.App, "app", "", "only sites of this app")
	f.StringVar(&o.Health, "health", "", "only sites whose health is this: good, bad or gone")
	f.BoolVar(&o.Newer, "newer", false, "only sites for which there is a newer release")
	f.BoolVar(&wide, "wide", false, "all that there is to list, on a terminal too")
	f.BoolVar(&redirects, "redirects", false, "list the addresses that lead to where sites moved")
	f.BoolVar(&again, "rebuild", false, "record again the sites that the ledger has lost")
	f.BoolVar(&notOurs, "not-ours", false, "with --rebuild: believe backups that this machine did not make")
	f.BoolVar(&o.Fresh, "fresh", false, "look at the accounts first")
	cli.Option(c, "app", a.AppWords, 0)
	return c
}

// unseen says of an account that could not be looked at that its sites are listed
// as they were known before.
func (a *app) unseen(why error) {
	f := fault.Of(why)
	a.Streams.Note("an account could not be looked at, and its sites are listed as they were known: " +
		strings.TrimSuffix(why.Error(), ".") + ". " + f.Remedy)
}

func (a *app) show() *cobra.Command {
	return &cobra.Command{
		Use:     "show SITE",
		Short:   "Show one site in full",
		Example: "  tivset show lockside.localhost:8780/forum\n  tivset show forum",
		Args:    cli.Takes(1, 1, "SITE"),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			found, err := s.Book.Find(ctx, args[0])
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(found)
			}
			a.SayIdle(ctx, s)
			a.Streams.Site(found, cli.CanMail(s, found))
			return nil
		}),
		ValidArgsFunction: cli.Only(a.SiteWords),
	}
}
