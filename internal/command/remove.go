package command

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/work/remove"
)

func (a *app) remove() *cobra.Command {
	r := &remove.Request{}
	c := &cobra.Command{
		Use:   "remove SITE [--only files|data] [flags]",
		Short: "Take a site out, and only that",
		Long: "Takes a site's files, database and user out, after a last backup. What the owner added, other\n" +
			"sites inside it and tables of others stay, and are named. What was set aside for the site\n" +
			"is put back. It asks first, or wants --yes. An address that leads to where its site moved\n" +
			"(sites --redirects) leads nowhere afterwards.",
		Example: "  tivset remove forum --dry-run\n  tivset remove forum --yes",
		Args:    takes(1, 1, "SITE"), ValidArgsFunction: only(a.siteWords),
		RunE: a.using(func(ctx context.Context, s *core.Core, args []string) error {
			leads, err := a.leading(ctx, s, args[0])
			if err != nil {
				return err
			}
			if leads != nil {
				return a.dropRedirect(ctx, s, *leads)
			}
			r.Site = args[0]
			p, err := remove.Look(ctx, s.Desk, *r)
			if err != nil {
				return err
			}
			defer p.Close()
			if err := a.agree(ctx, a.streams.ReviewRemove(p), "Take it out?", true, p); err != nil {
				return err
			}
			done, err := remove.Remove(ctx, s.Desk, p)
			a.streams.Say("")
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(map[string]any{"outcome": "removed", "job": done.Job, "site": done.Plan.Site,
					"stays": done.Plan.Stays, "backup": newBackedUpJSON(done.Backup), "warnings": done.Warnings})
			}
			a.streams.Removed(done)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&r.Only, "only", "", "only the files, or only the data: files or data")
	f.StringVar(&r.Into, "into", "", "a folder here for the last backup (the account's store when left out)")
	f.BoolVar(&r.NoBackup, "no-backup", false, "make no last backup")
	f.BoolVar(&r.WithAdded, "with-added", false, "also what you added in the app's folders")
	return c
}
