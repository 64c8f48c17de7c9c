package command

import (
	"context"

	"github.com/spf13/cobra"

	"tivset/internal/core"
	"tivset/internal/work"
	"tivset/internal/work/remove"
)

func (a *app) remove() *cobra.Command {
	r, o := &remove.Request{}, &selection{}
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
			if len(args) == 1 && !o.all {
				leads, err := a.leading(ctx, s, args[0])
				if err != nil {
					return err
				}
				if leads != nil {
					return a.dropRedirect(ctx, s, *leads)
				}
			}
			rows, err := a.rows(ctx, s, args, o)
			if err != nil {
				return err
			}
			if a.sideBySide(rows, o) {
				return a.removeSeveral(ctx, s, rows, o, *r)
			}
			r.Site = rows[0].Site
			return a.removeOne(ctx, s, *r)
		}),
	}
	f := c.Flags()
	chooses(c, o)
	f.StringVar(&r.Only, "only", "", "only the files, or only the data: files or data")
	f.StringVar(&r.Into, "into", "", "a folder here for the last backup (the account's store when left out)")
	f.BoolVar(&r.NoBackup, "no-backup", false, "make no last backup")
	f.BoolVar(&r.WithAdded, "with-added", false, "also what you added in the app's folders")
	return c
}

// removeOne takes one site out.
func (a *app) removeOne(ctx context.Context, s *core.Core, r remove.Request) error {
	p, err := remove.Look(ctx, s.Desk, r)
	if err != nil {
		return err
	}
	defer p.Close()
	if err := a.agree(ctx, a.streams.ReviewRemove(p), "Take it out?", p); err != nil {
		return err
	}
	done, err := remove.Remove(ctx, s.Desk, p)
	a.streams.Say("")
	if err != nil {
		return err
	}
	if a.json {
		return a.streams.WriteJSON(removedJSON(done))
	}
	a.streams.Removed(done)
	return nil
}

// removeSeveral takes several sites out. In an account one goes after the other: a site may
// lie in another.
func (a *app) removeSeveral(ctx context.Context, s *core.Core, rows []siteRow, o *selection, r remove.Request) error {
	o.atOnce, o.strict = 1, true
	return a.several(ctx, s, rows, o, "Take %s out?", func(ctx context.Context, row siteRow) (prepared, error) {
		one := r
		one.Site = row.Site
		l, err := a.lookedAt(ctx, s, row.Site)
		if err != nil {
			return l, err
		}
		p, err := remove.Look(ctx, s.Desk, one)
		if err != nil {
			return l, err
		}
		l.review, l.document = a.streams.ReviewRemove(p), p
		l.do = func(ctx context.Context, d *work.Service) (ended, error) {
			done, err := remove.Remove(ctx, d, p)
			if err != nil {
				return ended{}, err
			}
			return ended{"removed", "taken out", removedJSON(done)}, nil
		}
		l.close = p.Close
		return l, nil
	})
}

func removedJSON(done *remove.Done) any {
	return map[string]any{"outcome": "removed", "job": done.Job, "site": done.Plan.Site, "stays": done.Plan.Stays,
		"backup": newBackedUpJSON(done.Backup), "warnings": done.Warnings}
}
