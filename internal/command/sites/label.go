package sites

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/sites"
	"tivset/internal/work/batch"
)

func (a *app) label() *cobra.Command {
	o := &cli.Selection{Free: true}
	c := &cobra.Command{
		Use:   "label SITE… NAME=WORD… [options]",
		Short: "Give sites words of your own, by which others find them",
		Long: "Labels are yours: a customer, a contract, who answers the telephone. Every command for many sites takes " +
			"them\n" +
			"with --where. “NAME=” takes one away; without any it says which there are. Of a table every column beside\n" +
			"the site becomes a label.",
		Example: "  tivset label forum journal customer=brook\n  tivset label --all contract=2026\n" +
			"  tivset label forum customer=\n  tivset backup --where customer=brook",
		Annotations: cli.NoDryRun(), ValidArgsFunction: a.AllSiteWords,
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			words, said := apart(args)
			rows, err := a.Rows(ctx, s, words, o)
			if err != nil {
				return err
			}
			return a.labelled(ctx, s, rows, said)
		}),
	}
	cli.AllOf(c, o)
	c.Flags().StringVar(&o.Table, "table", "", "the sites of a table (CSV) with the column site; every other column is a "+
		"label; - for standard input")
	return c
}

// apart tells labels from the names of sites.
func apart(args []string) (words []string, said map[string]string) {
	said = map[string]string{}
	for _, arg := range args {
		if name, is, labels := strings.Cut(arg, "="); labels {
			said[name] = is
		} else {
			words = append(words, arg)
		}
	}
	return words, said
}

// labelsWillDo says what is wrong with labels, of a line of a table where it is one.
func labelsWillDo(line string, labels map[string]string) error {
	var wrong []fault.Problem
	for _, name := range slices.Sorted(maps.Keys(labels)) {
		is := labels[name]
		if !ledger.LabelForm.MatchString(name) || sites.IsProperty(name) || strings.ContainsFunc(is,
			func(r rune) bool { return r < ' ' || r == ',' }) {
			wrong = append(wrong, fault.Problem{ID: line + name + "=" + is, What: "a label cannot be so",
				Remedy: "Its name is of small letters, digits, _ and -, and not that of something that every site has; its word " +
					"has no comma."})
		}
	}
	return fault.Join("there are labels that will not do", "Nothing was touched.", wrong)
}

// labelled labels sites, and says which labels they have then.
func (a *app) labelled(ctx context.Context, s *core.Core, rows []*batch.Row, said map[string]string) error {
	all, err := batch.Sites(ctx, s.Book, cli.Named(rows), a.Account)
	if err != nil {
		return err
	}
	labels := map[string]map[string]string{}
	for n, x := range all {
		of := maps.Clone(said)
		for name, is := range rows[n].Values {
			if !slices.Contains(batch.SiteColumns, name) {
				of[name] = is
			}
		}
		if err := labelsWillDo("", of); err != nil {
			return err
		}
		if len(of) > 0 {
			labels[x.Address] = of
		}
	}
	if len(labels) > 0 {
		if err := s.Book.Ledger.Label(ctx, labels); err != nil {
			return err
		}
		if all, err = batch.Sites(ctx, s.Book, cli.Named(rows), a.Account); err != nil {
			return err
		}
	}
	documents := []map[string]any{}
	for _, x := range all {
		if x.Labels == nil {
			x.Labels = map[string]string{}
		}
		documents = append(documents, map[string]any{"address": x.Address, "labels": x.Labels})
		if !a.JSON {
			a.Streams.Print("%s: %s", x.Address, screen.Labels(x.Labels))
		}
	}
	if a.JSON {
		return a.Streams.WriteJSON(documents)
	}
	return nil
}
