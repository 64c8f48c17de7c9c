package accounts

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/hosting/reach"
	"tivset/internal/records/home"
	"tivset/internal/screen"
	"tivset/internal/wizard"
)

func (a *app) accountTrust() *cobra.Command {
	named := ""
	c := &cobra.Command{
		Use:   "trust NAME [FINGERPRINT] [--database SERVER]",
		Short: "Accept the key or certificate of an account's server",
		Long: "Shows the key that the SSH server shows now, or the certificate of the FTP server, and keeps\n" +
			"it once you say that it is the right one: on a terminal by typing yes, elsewhere by giving its\n" +
			"fingerprint. Compare it with what the host publishes. With --database it is the certificate of a\n" +
			"database server on another machine.",
		Example: "  tivset account trust quillmere\n  tivset account trust quillmere SHA256:…\n" +
			"  tivset account trust quillmere --database main",
		Args: cli.Takes(1, 2, "NAME [FINGERPRINT]"), Annotations: cli.NoDryRun(),
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
			var d *account.Database
			if named != "" {
				if d = x.Database(named, ""); d == nil {
					return fault.New(fault.Usage, "the account has no database server of this name", named,
						"See: "+fault.Call("account", "show", x.Name))
				}
			}
			server, err := a.truster(c.Context(), h, x, d)
			if err != nil {
				return err
			}
			print := ""
			if len(args) > 1 {
				print = args[1]
			}
			shown, err := server.Trust(print)
			if err != nil {
				return err
			}
			if print == "" {
				unknown := &fault.Error{Kind: fault.NeedsConfirmation, What: "the server's " + server.What + " was not accepted",
					Where:   server.At,
					Details: []string{shown}, Remedy: "When it is the right one: " + accepts(args[0], shown, named)}
				if !a.Streams.Asks() {
					return unknown
				}
				a.Streams.Say("%s shows the %s %s", server.At, server.What, shown)
				if !screen.NewAsker(a.Streams).Confirm(c.Context(), "Is that the one that the host publishes?") {
					return unknown
				}
				if _, err := server.Trust(shown); err != nil {
					return err
				}
			}
			if a.JSON {
				return a.Streams.WriteJSON(map[string]any{"account": args[0], "server": server.At, "fingerprint": shown,
					"accepted": true})
			}
			a.Streams.Print("%s", fmt.Sprintf("The %s of %s is accepted.", server.What, server.At))
			return nil
		},
	}
	c.Flags().StringVar(&named, "database", "", "the database server, as the account names it")
	return c
}

// accepts is the call that accepts what a server shows.
func accepts(name, shown, database string) string {
	if database != "" {
		return fault.Call("account", "trust", name, shown, "--database", database)
	}
	return fault.Call("account", "trust", name, shown)
}

// truster says what an account's server shows for itself, and how to keep it.
func (a *app) truster(ctx context.Context, h home.Home, x *account.Account, d *account.Database) (s wizard.Shown,
	err error) {
	to, known := x.Remote(), a.World.Certificates(h)
	switch {
	case d != nil:
		return wizard.Shown{What: "certificate", At: d.Server, Trust: func(print string) (string, error) {
			return reach.TrustDatabase(ctx, known, x, d, print)
		}}, nil
	case to == nil:
		return s, fault.New(fault.Usage, "the account is on this machine", x.Reach,
			"Only accounts reached over SSH or FTPS have a server to accept.")
	case !x.Line().Encrypted:
		return s, fault.New(fault.Usage, "over plain FTP a server shows nothing to accept", x.Reach,
			"Write ftps:// in files: of the account.")
	case !x.Line().Shell:
		return wizard.Shown{What: "certificate", At: to.Address, Trust: func(print string) (string, error) {
			return ftp.Trust(ctx, known, to.Address, print)
		}}, nil
	}
	hosts := a.World.Hosts(h)
	return wizard.Shown{What: "key", At: to.Address, Trust: func(print string) (string, error) {
		return hosts.Trust(to.Address, print)
	}}, nil
}
