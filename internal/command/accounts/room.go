// Package accounts has the commands for hosting accounts.
package accounts

import (
	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
)

// app is what every command shares.
type app struct{ *cli.App }

// Commands are the commands of this room.
func Commands(shared *cli.App) []*cobra.Command {
	a := &app{shared}
	return []*cobra.Command{
		a.accounts(),
	}
}
