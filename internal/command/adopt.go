package command

import (
	"context"
	"errors"
	"maps"

	"github.com/spf13/cobra"

	"tivset/internal/answer"
	"tivset/internal/check"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/screen"
	"tivset/internal/site"
	"tivset/internal/wizard"
	"tivset/internal/work"
	"tivset/internal/work/adopt"
	"tivset/internal/work/batch"
	"tivset/internal/work/repair"
)

func (a *app) adopt() *cobra.Command {
	var answers []string
	o := &selection{free: true}
	c := &cobra.Command{
		Use:   "adopt ADDRESS|--table FILE -a admin.name=NAME -a admin.password=@FILE",
		Short: "Take charge of an app that was installed by other means",
		Long: "Finds an app by its kit's marks, reads its configuration for database and addresses, signs in,\n" +
			"and from then on looks after the site like one of its own. Nothing of the site is changed.",
		Example: "  tivset adopt lockside.localhost/forum -a admin.name=wharfinger -a admin.password=@-\n" +
			"  tivset adopt --table found.csv",
		Args: func(c *cobra.Command, args []string) error {
			if o.table != "" {
				return takes(0, 0, "--table FILE")(c, args)
			}
			return takes(1, 1, "ADDRESS")(c, args)
		},
		Annotations: noDryRun(), ValidArgsFunction: only(a.domainWords),
		RunE: a.using(func(ctx context.Context, s *core.Core, args []string) error {
			given, err := a.given(answers)
			if err != nil {
				return err
			}
			if o.table != "" {
				return a.adoptSeveral(ctx, s, o, given)
			}
			done, err := adopt.Adopt(ctx, s.Desk, adopt.Request{At: args[0], Account: a.account, Answers: given})
			if missing := fault.Of(err).Missing; err != nil && len(missing) > 0 && a.streams.Asks() {
				if given, err = a.asked(ctx, given, missing); err == nil {
					done, err = adopt.Adopt(ctx, s.Desk, adopt.Request{At: args[0], Account: a.account, Answers: given})
				}
			}
			if err != nil {
				return err
			}
			found, err := s.Book.Find(ctx, done.Address)
			if err != nil {
				return err
			}
			if a.json {
				return a.streams.WriteJSON(map[string]any{"outcome": "adopted", "site": found, "checks": done.Checks})
			}
			a.streams.Print("%s %s at %s is recorded; see it with: tivset show %s\n", found.App, found.Release, found.URL,
				found.Address)
			a.checkTable([]check.Examined{done})
			return nil
		}),
	}
	f := c.Flags()
	f.StringArrayVarP(&answers, "answer", "a", nil,
		"an answer, id=value; id=@FILE reads a file, id=@- standard input")
	f.StringVar(&o.table, "table", "", "the sites of a table (CSV) with the column at, and answers, as tivset find "+
		"--results writes it; - for standard input")
	f.StringVar(&o.results, "results", "", "with --table: write what came of each row to this file, as CSV")
	f.IntVar(
		&o.atOnce,
		"at-once",
		batch.Usual.Account,
		"with --table: how many sites of an account are looked at side by side",
	)
	return c
}

// adoptSeveral takes charge of the apps of a table. Nothing of them is changed, and so it
// wants no yes.
func (a *app) adoptSeveral(ctx context.Context, s *core.Core, o *selection, all answer.Given) error {
	o.site = "at"
	rows, err := a.rows(ctx, s, nil, o)
	if err != nil {
		return err
	}
	return a.several(ctx, s, rows, o, "", func(ctx context.Context, row siteRow) (prepared, error) {
		r := adopt.Request{At: row.Site, Account: a.account, Answers: maps.Clone(all)}
		for _, id := range []string{"title", "admin.name", "admin.password", "admin.email"} {
			if value := row.Values[id]; value != "" {
				r.Answers[id] = value
			}
		}
		x, err := adopt.Look(ctx, s.Desk, r)
		if err != nil {
			return prepared{at: row.Site}, err
		}
		l := prepared{at: x.Address, document: x, options: map[string][]string{"answer": answered(r.Answers)}}
		l.account, err = s.Book.Home.Account(x.Account)
		l.do = func(ctx context.Context, d *work.Service) (ended, error) {
			done, err := adopt.Adopt(ctx, d, r)
			if err != nil {
				return ended{}, err
			}
			x, err := s.Book.Find(ctx, done.Address)
			return ended{"adopted", x.App + " " + x.Release + " is recorded", map[string]any{"outcome": "adopted", "site": x,
				"checks": done.Checks}}, err
		}
		return l, err
	})
}

// asked asks for answers that are missing: names as they are typed, passwords
// unseen.
func (a *app) asked(ctx context.Context, given answer.Given, missing []string) (answer.Given, error) {
	out := answer.Given{}
	maps.Copy(out, given)
	asker := screen.NewAsker(a.streams)
	for _, id := range missing {
		if out[id] != "" {
			continue
		}
		prompt := wizard.Prompt{Text: "The admin's name in the app"}
		if id == site.AdminPassword {
			prompt = wizard.Prompt{Text: "The admin's password, as it is in the app", Unseen: true}
		}
		var err error
		if out[id], err = asker.Ask(ctx, prompt); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// repair puts the release's own files back, one site after the other.
func (a *app) repair(ctx context.Context, s *core.Core, words []string) error {
	return a.each(ctx, words, func(word string) (any, error) {
		done, err := repair.Repair(ctx, s.Desk, word)
		a.streams.Say("")
		if errors.Is(err, repair.ErrNothing) {
			x, err := s.Book.Find(ctx, word)
			a.streams.Say("Nothing of %s is to be repaired: %v. What was added stays, for you to judge.", x.Address,
				repair.ErrNothing)
			return map[string]any{"outcome": "as it was", "site": x}, err
		}
		if err != nil {
			return nil, err
		}
		if !a.json {
			a.streams.Repaired(done)
		}
		return map[string]any{"outcome": "repaired", "site": done.Site, "files": done.Files,
			"taken_away": done.Taken, "closed": done.Closed, "backup": newBackedUpJSON(done.Backup), "checks": done.Checks}, nil
	})
}
