// Package upkeep has the commands that look after sites: what is done by itself, checks, jobs, and pages about them.
package upkeep

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
		a.Queued(a.check()),
		a.maintain(), a.care(), a.notify(), a.jobs(), a.undo(), a.resume(), a.report(), a.metrics(),
		a.handover(), a.recovery(),
	}
}
