package command

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/near"
)

func (a *app) browse() *cobra.Command {
	var kind string
	c := &cobra.Command{
		Use:     "browse [WORD…] [--kind KIND]",
		Short:   "Show what can be installed",
		Example: "  tivset browse\n  tivset browse --kind forum\n  tivset browse threads",
		RunE: func(_ *cobra.Command, words []string) error {
			if kind != "" && !slices.Contains(kit.Kinds, kind) {
				remedy := strings.TrimSpace(near.Hint(kind, kit.Kinds) + " There are " + strings.Join(kit.Kinds, ", ") + ".")
				return fault.New(fault.Usage, "there is no kind "+kind, "", remedy)
			}
			return a.runBrowse(kind, words)
		},
	}
	c.Flags().StringVar(&kind, "kind", "", "only apps of this kind: "+strings.Join(kit.Kinds, ", "))
	option(c, "kind", func(context.Context) []string { return kit.Kinds }, 0)
	return c
}

func (a *app) runBrowse(kind string, words []string) error {
	c, _, err := a.catalogue()
	if err != nil {
		return err
	}
	all, faulty, err := c.Look()
	if err != nil {
		return err
	}
	for _, f := range faulty {
		a.streams.Warn(fault.Of(f).What + ", and is left out; see them with: tivset kit check DIR")
	}
	found := catalogue.Search(all, kind, words)
	if a.json {
		return a.streams.WriteJSON(appsJSON(found))
	}
	if len(found) == 0 {
		a.streams.Say("Nothing fits. See everything with: tivset browse")
		return nil
	}
	var rows [][]string
	for _, e := range found {
		rows = append(rows, []string{e.App, e.Title, e.Kind, cmp.Or(e.Newest().Release, "newest"), e.Summary})
	}
	a.streams.Table([]string{"App", "Title", "Kind", "Release", "What it is"}, rows)
	a.streams.Say("\nMore about one: tivset about %s", found[0].App)
	return nil
}
