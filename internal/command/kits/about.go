package kits

import (
	"io/fs"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/app/catalogue"
	"tivset/internal/command/cli"
	"tivset/internal/screen"
)

func (a *app) about() *cobra.Command {
	var licence bool
	c := &cobra.Command{
		Use:     "about APP",
		Short:   "Say what an app is, needs and asks",
		Example: "  tivset about willowbench\n  tivset about willowbench --licence",
		Args:    cli.Takes(1, 1, "APP"),
		RunE: func(cmd *cobra.Command, args []string) error {
			a.Freshen(cmd.Context())
			c, archives, err := a.Catalogue(cmd.Context())
			if err != nil {
				return err
			}
			e, err := c.Find(args[0])
			if err != nil {
				return err
			}
			if licence && !a.JSON {
				return a.printFile(e, e.Licence.Text)
			}
			if err := archives.LookUp(cmd.Context(), e.Kit); err != nil {
				a.Streams.Fault(err)
			}
			return a.runAbout(e)
		},
		ValidArgsFunction: cli.Only(a.AppWords),
	}
	c.Flags().BoolVar(&licence, "licence", false, "print the whole licence")
	return c
}

// printFile prints a text of the kit.
func (a *app) printFile(e catalogue.Entry, name string) error {
	if name == "" {
		a.Streams.Print("%s", e.Licence.Name)
		return nil
	}
	text, err := fs.ReadFile(e.Files(), name)
	if err != nil {
		return err
	}
	a.Streams.Print("%s", strings.TrimRight(screen.Clean(string(text)), "\n"))
	return nil
}

func (a *app) runAbout(e catalogue.Entry) error {
	if a.JSON {
		return a.Streams.WriteJSON(cli.NewAboutJSON(e))
	}
	features := ""
	if e.About != "" {
		text, err := fs.ReadFile(e.Files(), e.About)
		if err != nil {
			return err
		}
		features = string(text)
	}
	a.Streams.About(e, features)
	return nil
}
