// Package sites has the commands that make sites, change them and take them away.
package sites

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
		a.Queued(a.install()), a.Queued(a.update()), a.Queued(a.backup()), a.Queued(a.restore()), a.Queued(a.copySite()),
		a.Queued(a.move()), a.Queued(a.remove()), a.Queued(a.adopt()),
		a.find(), a.sites(), a.show(), a.label(), a.reveal(), a.enter(), a.forget(), a.free(),
	}
}
