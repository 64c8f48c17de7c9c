package sites

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
)

func (a *app) forget() *cobra.Command {
	anyway := false
	c := &cobra.Command{
		Use:   "forget SITE [--anyway]",
		Short: "Drop the record of a site that is no longer there",
		Long: "Drops what Tivset keeps of a site whose files are gone, with its passwords. Nothing in the\n" +
			"account is touched; a site that is still there stays recorded. With --anyway the record goes\n" +
			"also where the files are there, or where nobody can look: the host is gone, say, or the domain\n" +
			"has another name now, under which the site can be adopted.",
		Example: "  tivset forget lockside.localhost/forum\n  tivset forget lockside.localhost/forum --anyway",
		Args:    cli.Takes(1, 1, "SITE"), Annotations: cli.NoDryRun(), ValidArgsFunction: cli.Only(a.SiteWords),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			leads, err := a.leading(ctx, s, args[0])
			if err != nil {
				return err
			}
			if leads != nil {
				return a.forgetRedirect(ctx, s, *leads, anyway)
			}
			found, err := s.Book.Find(ctx, args[0])
			if err != nil {
				return err
			}
			if anyway {
				text := fmt.Sprintf("  This drops the record and the passwords of “%s” (%s). Nothing in its account is touched.",
					found.Title, found.URL)
				if err := a.AgreeFinally(ctx, text, "Forget it?"); err != nil {
					return err
				}
			}
			done, err := s.Sites.Forget(ctx, found.Address, anyway)
			if err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]any{"address": done.Site.Address, "forgotten": true,
					"database_left": done.Database,
					"files_left":    done.Stands, "looked_at": done.Unseen == nil})
			}
			a.Streams.Print("%s is forgotten.", done.Site.Address)
			if done.Database != "" {
				a.Streams.Warn("its database " + done.Database + " is still there")
			}
			if done.Stands != "" {
				a.Streams.Warn("its files are still there, such as " + done.Stands)
			}
			if done.Unseen != nil {
				a.Streams.Warn("what is still there could not be looked at: " + done.Unseen.Error())
			}
			return nil
		}),
	}
	c.Flags().BoolVar(&anyway, "anyway", false, "also when the files are there, or nobody can look")
	return c
}
