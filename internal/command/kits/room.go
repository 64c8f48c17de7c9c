// Package kits has the commands for apps: browsing them, their kits and catalogues.
package kits

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
		a.browse(), a.about(), a.kit(), a.catalogueGroup(),
	}
}
