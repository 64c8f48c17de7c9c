package sites

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/site/redirect"
)

// leading gives the redirect that somebody means; nil for none.
func (a *app) leading(ctx context.Context, s *core.Core, word string) (*ledger.Redirect, error) {
	addresses, err := s.Book.Ledger.Addresses(ctx)
	if err != nil {
		return nil, err
	}
	return s.Book.Leading(ctx, word, addresses)
}

// redirects lists the addresses that lead to where sites moved.
func (a *app) redirects(ctx context.Context, s *core.Core) error {
	all, err := s.Book.Ledger.Redirects(ctx)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(all)
	}
	if len(all) == 0 {
		a.Streams.Say("No address leads to a site that moved. Make one with: tivset move SITE --at ADDRESS --redirect")
		return nil
	}
	var rows [][]string
	for _, r := range all {
		rows = append(rows, []string{r.Address, r.To, r.Account, redirect.Says(r)})
	}
	a.Streams.Table([]string{"Address", "Leads to", "Account", "For"}, rows)
	return nil
}

// tellOfRedirects says below a list of sites that there are redirects too.
func (a *app) tellOfRedirects(ctx context.Context, s *core.Core) error {
	all, err := s.Book.Ledger.Redirects(ctx)
	switch len(all) {
	case 0:
	case 1:
		a.Streams.Say("One address leads to a site that moved: tivset sites --redirects")
	default:
		a.Streams.Say("%d addresses lead to sites that moved: tivset sites --redirects", len(all))
	}
	return err
}

// free takes away what leads to where a site moved.
func (a *app) free() *cobra.Command {
	return &cobra.Command{
		Use:   "free ADDRESS",
		Short: "Stop an old address from leading to where its site moved",
		Long: "Takes away what move --redirect put at the old address of a site, so that the place is free for\n" +
			"something else and leads nowhere. What somebody changed there stays, and is named. It asks first,\n" +
			"or wants --yes. sites --redirects lists such addresses.",
		Example: "  tivset sites --redirects\n  tivset free lockside.localhost/forum\n" +
			"  tivset free lockside.localhost/forum --dry-run",
		Args: cli.Takes(1, 1, "ADDRESS"),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			leads, err := a.leading(ctx, s, args[0])
			if err != nil {
				return err
			}
			if leads == nil {
				return fault.New(fault.Usage, "no old address of a site is that", args[0],
					"See those that there are: "+fault.Call("sites", "--redirects")+". Nothing was touched.")
			}
			return a.dropRedirect(ctx, s, *leads)
		}),
	}
}

func (a *app) dropRedirect(ctx context.Context, s *core.Core, r ledger.Redirect) error {
	text := "  " + r.URL + " leads to " + r.To + ", and will lead nowhere."
	if err := a.Agree(ctx, text, "Take it away?", r); err != nil {
		return err
	}
	stays, err := s.Sites.DropRedirect(ctx, r)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"outcome": "freed", "redirect": r, "stays": cli.List(stays)})
	}
	a.Streams.Print("%s leads nowhere any more.", r.Address)
	for _, name := range stays {
		a.Streams.Warn(name + " was changed by somebody, and stays")
	}
	return nil
}

func (a *app) forgetRedirect(ctx context.Context, s *core.Core, r ledger.Redirect, anyway bool) error {
	if anyway {
		text := "  This drops the record that " + r.URL + " leads to " + r.To + ". Nothing in its account is touched."
		if err := a.AgreeFinally(ctx, text, "Forget it?"); err != nil {
			return err
		}
	}
	if err := s.Sites.ForgetRedirect(ctx, r, anyway); err != nil {
		return err
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"address": r.Address, "forgotten": true})
	}
	a.Streams.Print("%s is forgotten.", r.Address)
	return nil
}
