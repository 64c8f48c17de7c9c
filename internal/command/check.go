package command

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/fault"
	"tivset/internal/ledger"
	"tivset/internal/site"
)

func (a *app) check() *cobra.Command {
	return &cobra.Command{
		Use:   "check [SITE…]",
		Short: "See whether sites work",
		Long: "Looks at sites as a visitor, as their admin and as a stranger: front page, sign-in, database,\n" +
			"files that must not be shown. Without a site, at all of them. Exit code 1 when one does not work.",
		Example:     "  tivset check\n  tivset check lockside.localhost/forum --json",
		Annotations: noDryRun(), ValidArgsFunction: only(a.siteWords),
		RunE: a.using(func(ctx context.Context, s *site.Service, args []string) error {
			sites, err := a.chosenSites(ctx, s, args)
			if err != nil {
				return err
			}
			return a.checkSites(ctx, s, sites)
		}),
	}
}

// chosenSites are those that were named; without any, all.
func (a *app) chosenSites(ctx context.Context, s *site.Service, words []string) ([]ledger.Site, error) {
	if len(words) == 0 {
		all, err := s.Sites(ctx)
		if a.account != "" {
			all = ofAccount(all, a.account)
		}
		return all, err
	}
	var out []ledger.Site
	for _, w := range words {
		found, err := s.Site(ctx, w)
		if err != nil {
			return nil, err
		}
		out = append(out, found)
	}
	return out, nil
}

func (a *app) checkSites(ctx context.Context, s *site.Service, sites []ledger.Site) error {
	all, rows, fine := []site.Examined{}, [][]string{}, true
	for _, x := range sites {
		e, err := s.Check(ctx, x)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil { // one that cannot be looked at does not keep the others from it
			e.Checks = append(e.Checks, site.Checked{Name: "site", Detail: err.Error() + ". " + fault.Of(err).Remedy})
		}
		fine = fine && e.OK
		all = append(all, e)
		for _, c := range e.Checks {
			rows = append(rows, []string{x.Address, c.Name, map[bool]string{true: "works", false: "fails"}[c.OK], c.Detail})
		}
	}
	switch {
	case a.json:
		if err := a.streams.WriteJSON(map[string]any{"ok": fine, "sites": all}); err != nil {
			return err
		}
	case len(sites) == 0:
		a.streams.Say("No site is installed yet. See what there is with: tivset browse")
	default:
		a.streams.Table([]string{"Site", "Check", "Result", "Detail"}, rows)
	}
	if !fine {
		return &silent{int(fault.Failed)}
	}
	return nil
}
