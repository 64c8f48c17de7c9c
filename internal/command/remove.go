package command

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/work/remove"
)

func (a *app) remove() *cobra.Command {
	r, all := &remove.Request{}, false
	c := &cobra.Command{
		Use:   "remove SITE… [--only files|data] [flags]",
		Short: "Take a site out, and only that",
		Long: "Takes a site's files, database and user out, after a last backup. What the owner added, other\n" +
			"sites inside it and tables of others stay, and are named. What was set aside for the site\n" +
			"is put back. It asks first, or wants --yes. An address that leads to where its site moved\n" +
			"(sites --redirects) leads nowhere afterwards.",
		Example: "  tivset remove forum --dry-run\n  tivset remove forum --yes",

		ValidArgsFunction: a.allSiteWords,
		RunE: a.using(func(ctx context.Context, s *core.Core, args []string) error {
			if len(args) == 1 && !all {
				leads, err := a.leading(ctx, s, args[0])
				if err != nil {
					return err
				}
				if leads != nil {
					return a.dropRedirect(ctx, s, *leads)
				}
			}
			words, err := a.meant(ctx, s, args, all)
			if err != nil {
				return err
			}
			return a.removeSites(ctx, s, words, *r)
		}),
	}
	f := c.Flags()
	allOf(c, &all)
	f.StringVar(&r.Only, "only", "", "only the files, or only the data: files or data")
	f.StringVar(&r.Into, "into", "", "a folder here for the last backup (the account's store when left out)")
	f.BoolVar(&r.NoBackup, "no-backup", false, "make no last backup")
	f.BoolVar(&r.WithAdded, "with-added", false, "also what you added in the app's folders")
	return c
}

// removeSites has the removal of all of them agreed to at once, and takes out one after the
// other.
func (a *app) removeSites(ctx context.Context, s *core.Core, words []string, r remove.Request) error {
	plans, reviews := []*remove.Plan{}, []string{}
	defer func() {
		for _, p := range plans {
			_ = p.Close()
		}
	}()
	for _, word := range words {
		r.Site = word
		p, err := remove.Look(ctx, s.Desk, r)
		if err != nil {
			return err
		}
		plans, reviews = append(plans, p), append(reviews, a.streams.ReviewRemove(p))
	}
	var shown any = plans
	question := fmt.Sprintf("Take all %d out?", len(plans))
	if len(plans) == 1 {
		shown, question = plans[0], "Take it out?"
	}
	if err := a.agree(ctx, strings.Join(reviews, "\n"), question, shown); err != nil {
		return err
	}
	return a.each(ctx, words, func(word string) (any, error) {
		done, err := remove.Remove(ctx, s.Desk, plans[slices.Index(words, word)])
		a.streams.Say("")
		if err != nil {
			return nil, err
		}
		if !a.json {
			a.streams.Removed(done)
		}
		return map[string]any{"outcome": "removed", "job": done.Job, "site": done.Plan.Site,
			"stays": done.Plan.Stays, "backup": newBackedUpJSON(done.Backup), "warnings": done.Warnings}, nil
	})
}
