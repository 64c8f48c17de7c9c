package kits

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/command/cli"
	"tivset/internal/fault"
)

func (a *app) kit() *cobra.Command {
	return a.Group("kit", "For people who write kits", a.kitNew(), a.kitRelease(), a.kitCheck(), a.kitTry(), a.kitPack())
}

func (a *app) kitCheck() *cobra.Command {
	var quick, schema bool
	c := &cobra.Command{
		Use:   "check DIR",
		Short: "Say what is wrong with a kit, with file and line",
		Long: "Reads the kit, and opens the archives of its releases that are at hand or can be fetched: whether\n" +
			"all that it names is in them, and whether it knows them again by their marks.",
		Example: "  tivset kit check ./willowbench\n  tivset kit check ./willowbench --quick\n  tivset kit check --schema",
		Args:    cli.Takes(0, 1, "[DIR]"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if schema {
				a.Streams.Print("%s", strings.TrimSpace(kit.Schema()))
				return nil
			}
			if len(args) == 0 {
				return fault.New(fault.Usage, "no kit is named", "DIR", "Name the kit's folder.")
			}
			return a.runKitCheck(cmd.Context(), args[0], quick)
		},
	}
	c.Flags().BoolVar(&quick, "quick", false, "only the kit itself: open no archive")
	c.Flags().BoolVar(&schema, "schema", false, "print the JSON Schema of kit.yaml, for editors")
	return c
}

func (a *app) runKitCheck(ctx context.Context, dir string, quick bool) error {
	k, err := kit.Read(catalogue.Folder("", dir).Files, dir)
	if err != nil {
		return err
	}
	doubts := k.Doubts()
	if !quick {
		problems, unseen, err := a.openArchives(ctx, k)
		if err != nil {
			return err
		}
		if err := fault.Join("the kit "+dir+" does not fit its archives",
			"Correct the lines named; docs/kit.md describes every key.", problems); err != nil {
			return err
		}
		doubts = append(doubts, unseen...)
	}
	if a.JSON {
		return a.Streams.WriteJSON(map[string]any{"app": k.App, "releases": k.Versions(), "ok": true,
			"warnings": append([]string{}, doubts...)})
	}
	for _, doubt := range doubts {
		a.Streams.Warn(doubt)
	}
	a.Streams.Print("The kit of %s has no mistakes.", k.Title)
	return nil
}

// openArchives looks into the archives of a kit's releases. Those that cannot be had are
// no mistakes of the kit's, and are named.
func (a *app) openArchives(ctx context.Context, k *kit.Kit) (problems []fault.Problem, unseen []string, err error) {
	_, archives, err := a.Catalogue(ctx)
	if err != nil {
		return nil, nil, err
	}
	if err := archives.LookUp(ctx, k); err != nil {
		return nil, []string{"its releases were not looked at: " + fault.Of(err).Error()}, nil
	}
	for i := range k.Releases {
		r := &k.Releases[i]
		found, err := archives.Examine(ctx, catalogue.Entry{Kit: k}, r)
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		if err != nil {
			unseen = append(unseen, "the archive of "+r.Release+" was not looked at: "+fault.Of(err).Error())
		}
		problems = append(problems, found...)
	}
	return problems, unseen, nil
}
