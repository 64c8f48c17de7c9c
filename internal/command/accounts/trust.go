package accounts

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/records/home"
	"tivset/internal/screen"
)

func (a *app) accountTrust() *cobra.Command {
	return &cobra.Command{
		Use:   "trust NAME [FINGERPRINT]",
		Short: "Accept the key or certificate of an account's server",
		Long: "Shows the key that the SSH server shows now, or the certificate of the FTP server, and keeps\n" +
			"it once you say that it is the right one: on a terminal by typing yes, elsewhere by giving its\n" +
			"fingerprint. Compare it with what the host publishes.",
		Example: "  tivset account trust quillmere\n  tivset account trust quillmere SHA256:…",
		Args:    cli.Takes(1, 2, "NAME [FINGERPRINT]"), Annotations: cli.NoDryRun(),
		ValidArgsFunction: cli.Only(a.AccountWords),
		RunE: func(c *cobra.Command, args []string) error {
			h, done, err := a.AccountsHome(c.Context())
			if err != nil {
				return err
			}
			defer done()
			x, err := h.Account(args[0])
			if err != nil {
				return err
			}
			what, trust, err := a.truster(c.Context(), h, x)
			if err != nil {
				return err
			}
			to := x.Remote()
			print := ""
			if len(args) > 1 {
				print = args[1]
			}
			shown, err := trust(print)
			if err != nil {
				return err
			}
			if print == "" {
				unknown := &fault.Error{Kind: fault.NeedsConfirmation, What: "the server's " + what + " was not accepted",
					Where:   to.Address,
					Details: []string{shown}, Remedy: "When it is the right one: tivset account trust " + args[0] + " " + shown}
				if !a.Streams.Asks() {
					return unknown
				}
				a.Streams.Say("%s shows the %s %s", to.Address, what, shown)
				if !screen.NewAsker(a.Streams).Confirm(c.Context(), "Is that the one that the host publishes?") {
					return unknown
				}
				if _, err := trust(shown); err != nil {
					return err
				}
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]any{"account": args[0], "server": to.Address, "fingerprint": shown,
					"accepted": true})
			}
			a.Streams.Print("%s", fmt.Sprintf("The %s of %s is accepted.", what, to.Address))
			return nil
		},
	}
}

// truster says what an account's server shows for itself, and how to keep it.
func (a *app) truster(ctx context.Context, h home.Home, x *account.Account) (what string,
	trust func(print string) (shown string, err error), err error) {
	to := x.Remote()
	switch {
	case to == nil:
		return "", nil, fault.New(fault.Usage, "the account is on this machine", x.Reach,
			"Only accounts reached over SSH or FTPS have a server to accept.")
	case !x.Line().Encrypted:
		return "", nil, fault.New(fault.Usage, "over plain FTP a server shows nothing to accept", x.Reach,
			"Write ftps:// in files: of the account.")
	case !x.Line().Shell:
		certificates := a.World.Certificates(h)
		return "certificate", func(print string) (string, error) { return certificates.Trust(ctx, to.Address, print) }, nil
	}
	hosts := a.World.Hosts(h)
	return "key", func(print string) (string, error) { return hosts.Trust(to.Address, print) }, nil
}
