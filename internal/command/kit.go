package command

import (
	"github.com/spf13/cobra"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
)

func (a *app) kit() *cobra.Command {
	check := &cobra.Command{
		Use:     "check DIR",
		Short:   "Say what is wrong with a kit, with file and line",
		Example: "  tivset kit check ./moorings",
		Args:    takes(1, 1, "DIR"),
		RunE: func(_ *cobra.Command, args []string) error {
			k, err := kit.Read(catalogue.Folder("", args[0]).Files, args[0])
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(map[string]any{"app": k.App, "releases": k.Versions(), "ok": true,
					"warnings": append([]string{}, k.Doubts()...)})
			}
			for _, doubt := range k.Doubts() {
				a.streams.Warn(doubt)
			}
			a.streams.Print("The kit of %s has no mistakes.", k.Title)
			return nil
		},
	}
	return a.group("kit", "For people who write kits", check, a.kitTry())
}
