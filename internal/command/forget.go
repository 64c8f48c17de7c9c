package command

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/core"
)

func (a *app) forget() *cobra.Command {
	return &cobra.Command{
		Use:   "forget SITE",
		Short: "Drop the record of a site that is no longer there",
		Long: "Drops what Tivset keeps of a site whose files are gone, with its passwords. Nothing in the\n" +
			"account is touched; a site that is still there stays recorded.",
		Example: "  tivset forget lockside.localhost/forum",
		Args:    takes(1, 1, "SITE"), Annotations: noDryRun(), ValidArgsFunction: only(a.siteWords),
		RunE: a.using(func(ctx context.Context, s *core.Core, args []string) error {
			done, err := s.Sites.Forget(ctx, args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(map[string]any{"address": done.Site.Address, "forgotten": true,
					"database_left": done.Database})
			}
			a.streams.Print("%s is forgotten.", done.Site.Address)
			if done.Database != "" {
				a.streams.Warn("its database " + done.Database + " is still there")
			}
			return nil
		}),
	}
}
