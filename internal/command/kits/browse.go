package kits

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/command/cli"
	"tivset/internal/fault"
	"tivset/internal/suggest"
)

func (a *app) browse() *cobra.Command {
	var kind string
	c := &cobra.Command{
		Use:     "browse [WORD…] [--kind KIND]",
		Short:   "Show what can be installed",
		Example: "  tivset browse\n  tivset browse --kind forum\n  tivset browse threads",
		RunE: func(cmd *cobra.Command, words []string) error {
			if kind != "" && !slices.Contains(kit.Kinds, kind) {
				remedy := strings.TrimSpace(suggest.Hint(kind, kit.Kinds) + " There are " + strings.Join(kit.Kinds, ", ") + ".")
				return fault.New(fault.Usage, "there is no kind "+kind, "", remedy)
			}
			return a.runBrowse(cmd.Context(), kind, words)
		},
	}
	c.Flags().StringVar(&kind, "kind", "", "only apps of this kind: "+strings.Join(kit.Kinds, ", "))
	cli.Option(c, "kind", func(context.Context) []string { return kit.Kinds }, 0)
	return c
}

func (a *app) runBrowse(ctx context.Context, kind string, words []string) error {
	a.Freshen(ctx)
	c, _, err := a.Catalogue(ctx)
	if err != nil {
		return err
	}
	all, faulty, err := c.Cards()
	if err != nil {
		return err
	}
	a.faultyKits(faulty)
	found := catalogue.Search(all, kind, words)
	if a.JSON {
		return a.Streams.WriteJSON(cli.AppsJSON(found))
	}
	if len(found) == 0 {
		a.Streams.Say("Nothing fits. See everything with: tivset browse")
		return nil
	}
	var rows [][]string
	several := slices.ContainsFunc(found, func(c catalogue.Card) bool { return c.Catalogue != found[0].Catalogue })
	headings := []string{"App", "Title", "Kind", "Release", "What it is"}
	if several {
		headings = append(headings, "From")
	}
	for _, c := range found {
		row := []string{c.App, c.Title, c.Kind, cmp.Or(c.Release, "newest"), c.Summary}
		if several {
			row = append(row, c.Catalogue)
		}
		rows = append(rows, row)
	}
	a.Streams.Table(headings, rows)
	a.Streams.Say("\nMore about one: tivset about %s", found[0].App)
	return nil
}
