package command

import (
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/fault"
	"tivset/internal/secret"
)

func (a *app) password() *cobra.Command {
	length, of := 20, string(secret.All)
	c := &cobra.Command{
		Use:     "password [--length N] [--of " + strings.Join(secret.Alphabets(), "|") + "]",
		Short:   "Generate a password and say how long it withstands a guesser",
		Example: "  tivset password\n  tivset password --length 16 --of alnum",
		Args:    cli.Takes(0, 0, ""),
		RunE: func(*cobra.Command, []string) error {
			made, err := secret.Maker{}.Password(length, secret.Alphabet(of))
			if err != nil {
				return fault.New(fault.Usage, err.Error(), "", "See: tivset password --help")
			}
			strength := secret.Gauge(made.Reveal())
			if a.JSON {
				return a.Streams.WriteJSON(struct {
					Password string `json:"password"`
					secret.Strength
				}{made.Reveal(), strength})
			}
			a.Streams.Strength(made, strength)
			return nil
		},
	}
	c.Flags().IntVar(&length, "length", length, "how many characters, 8 to 72")
	c.Flags().StringVar(&of, "of", of, "which characters: "+strings.Join(secret.Alphabets(), ", "))
	return c
}
