package sites

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/site"
	"tivset/internal/work/batch"
	"tivset/internal/work/remove"
	"tivset/internal/work/requests"
)

func (a *app) remove() *cobra.Command {
	r, o := &remove.Request{}, &cli.Selection{}
	c := &cobra.Command{
		Use:   "remove SITE… [--only files|data] [options]",
		Short: "Remove a site, and nothing else",
		Long: "Takes a site's files, database and user out, after a last backup. What the owner added, other\n" +
			"sites inside it and tables of others stay, and are named. What was set aside for the site\n" +
			"is put back. It asks first, or wants --yes. Addresses that lead to the site (sites --redirects)\n" +
			"go along, unless --keep-redirects leaves them; free takes away such an address by itself.",
		Example: "  tivset remove forum --dry-run\n  tivset remove forum --yes",

		ValidArgsFunction: a.AllSiteWords,
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			if len(args) == 1 && !o.All {
				leads, err := a.leading(ctx, s, args[0])
				if err != nil {
					return err
				}
				if leads != nil {
					return site.Leads(*leads)
				}
			}
			b, err := a.Asked(ctx, s, args, o, func(row *batch.Row) batch.Request {
				one := *r
				one.Site = row.Site
				return &requests.Remove{Request: one}
			})
			if err != nil {
				return err
			}
			o.AtOnce, o.Strict = 1, true // one after the other in an account: a site may lie in another
			return a.Carry(ctx, s, b, o, nil)
		}),
	}
	f := c.Flags()
	cli.Chooses(c, o)
	f.StringVar(&r.Only, "only", "", "only the files, or only the data: files or data")
	f.StringVar(&r.Into, "into", "", "a folder here for the last backup (Tivset's folder in the account when left out)")
	f.BoolVar(&r.NoBackup, "no-backup", false, "make no last backup")
	f.BoolVar(&r.KeepRedirects, "keep-redirects", false,
		"leave the addresses that lead to the site, which lead nowhere then")
	f.BoolVar(&r.WithAdded, "with-added", false, "also what you added in the app's folders")
	return c
}
