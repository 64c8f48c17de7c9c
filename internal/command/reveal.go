package command

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/site"
)

func (a *app) reveal() *cobra.Command {
	return &cobra.Command{
		Use:     "reveal SITE",
		Short:   "Show a site's credentials",
		Example: "  tivset reveal lockside.localhost:8780/forum",
		Args:    takes(1, 1, "SITE"),
		RunE: a.using(func(ctx context.Context, s *site.Service, args []string) error {
			found, err := s.Reveal(ctx, args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(credentialsJSON(found))
			}
			a.streams.Credentials(found)
			return nil
		}),
		ValidArgsFunction: only(a.siteWords),
	}
}

type dataJSON struct {
	Engine   string `json:"engine"`
	Server   string `json:"server"`
	Name     string `json:"name"`
	User     string `json:"user"`
	Password string `json:"password"`
}

type revealJSON struct {
	Address  string    `json:"address"`
	URL      string    `json:"url"`
	AdminURL string    `json:"admin_url"`
	Admin    adminJSON `json:"admin"`
	Database *dataJSON `json:"database,omitempty"`
}

func credentialsJSON(c site.Credentials) revealJSON {
	r := revealJSON{c.Site.Address, c.Site.URL, c.Site.AdminURL, adminJSON{c.Site.Admin.Name, c.Site.Admin.Email, c.Password.Reveal()}, nil}
	if d := c.Site.Database; d != nil {
		r.Database = &dataJSON{d.Engine, d.Server, d.Name, d.User, c.Data.Reveal()}
	}
	return r
}
