package command

import (
	"fmt"

	"github.com/spf13/cobra"

	"tivset/internal/fault"
	"tivset/internal/screen"
)

func (a *app) accountTrust() *cobra.Command {
	return &cobra.Command{
		Use:   "trust NAME [FINGERPRINT]",
		Short: "Accept the key of an account's SSH server",
		Long: "Shows the key that the server shows now, and keeps it once you say that it is the right\n" +
			"one: on a terminal by typing yes, elsewhere by giving its fingerprint. Compare it with what\n" +
			"the host publishes.",
		Example: "  tivset account trust quillmere\n  tivset account trust quillmere SHA256:…",
		Args:    takes(1, 2, "NAME [FINGERPRINT]"), Annotations: noDryRun(), ValidArgsFunction: only(a.accountWords),
		RunE: func(c *cobra.Command, args []string) error {
			h := a.world.home()
			account, err := h.Account(args[0])
			if err != nil {
				return err
			}
			to := account.Remote()
			if to == nil {
				return fault.New(fault.Usage, "the account is on this machine", account.Reach, "Only accounts reached over SSH have a server whose key can be accepted.")
			}
			print := ""
			if len(args) > 1 {
				print = args[1]
			}
			hosts := a.world.hosts(h)
			shown, err := hosts.Trust(to.Address, print)
			if err != nil {
				return err
			}
			if print == "" {
				unknown := &fault.Error{Kind: fault.Decision, What: "the server's key was not accepted", Where: to.Address, Details: []string{shown}, Remedy: "When it is the right one: tivset account trust " + args[0] + " " + shown}
				if !a.streams.Asks() {
					return unknown
				}
				a.streams.Say("%s shows the key %s", to.Address, shown)
				if !screen.NewAsker(a.streams).Confirm(c.Context(), "Is that the one that the host publishes?") {
					return unknown
				}
				if _, err := hosts.Trust(to.Address, shown); err != nil {
					return err
				}
			}
			if a.json {
				return a.streams.WriteJSON(map[string]any{"account": args[0], "server": to.Address, "fingerprint": shown, "accepted": true})
			}
			a.streams.Print("%s", fmt.Sprintf("The key of %s is accepted.", to.Address))
			return nil
		},
	}
}
