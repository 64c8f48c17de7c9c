// Package team has the commands for several people and machines: where records are kept, members, the queue and its
// workers.
package team

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
		a.ledger(), a.team(), a.history(), a.queueGroup(), a.worker(),
	}
}
