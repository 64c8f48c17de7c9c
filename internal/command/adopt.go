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
	"tivset/internal/talk"
	"tivset/internal/work/adopt"
	"tivset/internal/work/repair"
)

func (a *app) adopt() *cobra.Command {
	var answers []string
	c := &cobra.Command{
		Use:   "adopt ADDRESS -a admin.name=NAME -a admin.password=@FILE",
		Short: "Take charge of an app that was installed by other means",
		Long: "Finds an app by its kit's marks, reads its configuration for database and addresses, signs in,\n" +
			"and from then on looks after the site like one of its own. Nothing of the site is changed.",
		Example: "  tivset adopt lockside.localhost/forum -a admin.name=wharfinger -a admin.password=@-",
		Args:    takes(1, 1, "ADDRESS"), Annotations: noDryRun(), ValidArgsFunction: only(a.domainWords),
		RunE: a.using(func(ctx context.Context, s *core.Core, args []string) error {
			given, err := a.given(answers)
			if err != nil {
				return err
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
	c.Flags().StringArrayVarP(&answers, "answer", "a", nil,
		"an answer, id=value; id=@FILE reads a file, id=@- standard input")
	return c
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
		prompt := talk.Prompt{Text: "The admin's name in the app"}
		if id == site.AdminPassword {
			prompt = talk.Prompt{Text: "The admin's password, as it is in the app", Unseen: true}
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
