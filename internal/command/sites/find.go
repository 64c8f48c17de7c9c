package sites

import (
	"context"
	"errors"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/answer"
	"tivset/internal/check"
	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/hosting/place"
	"tivset/internal/screen"
	"tivset/internal/site"
	"tivset/internal/suggest"
	"tivset/internal/wizard"
	"tivset/internal/work/adopt"
)

func (a *app) find() *cobra.Command {
	results := ""
	c := &cobra.Command{
		Use:   "find [ACCOUNT] [--results FILE]",
		Short: "Find the apps in an account, and manage them",
		Long: "Walks the document roots of an account and lists the apps that are there, by the marks of the\n" +
			"kits: with release and age, on record or not, and what no kit knows. On a terminal those that\n" +
			"are chosen are managed; elsewhere --results writes a table to fill in\n" +
			"for adopting them. Looking changes nothing.",
		Example: "  tivset find quillmere\n  tivset find quillmere --results found.csv\n  tivset adopt --table found.csv",
		Args:    cli.Takes(0, 1, "[ACCOUNT]"), Annotations: cli.NoDryRun(), ValidArgsFunction: cli.Only(a.AccountWords),
		RunE: a.Using(func(ctx context.Context, s *core.Core, args []string) error {
			name := a.Account
			if len(args) > 0 {
				name = args[0]
			}
			in, err := s.Book.Account(name, "")
			if err != nil {
				return err
			}
			seen, err := adopt.Find(ctx, s.Desk, in.Name)
			if err != nil {
				return err
			}
			if err := a.keepFound(results, seen); err != nil {
				return err
			}
			if a.JSON {
				return a.Streams.WriteJSON(seen)
			}
			a.Streams.Found(seen, a.World.Now())
			if results != "" {
				a.Streams.Say("\nFill in admin.name and admin.password in %s, then: tivset adopt --table %s", results, results)
			} else if a.Streams.Asks() && !a.Yes {
				return a.adoptFound(ctx, s, seen)
			}
			return nil
		}),
	}
	c.Flags().
		StringVar(&results, "results", "", "write what can be managed to this file, as a table (CSV) to fill in")
	return c
}

// keepFound writes the table of what can be managed.
func (a *app) keepFound(name string, seen *adopt.Seen) error {
	file, err := a.ResultsFile(name)
	if err != nil || file == nil {
		return err
	}
	err = screen.WriteFound(file, seen)
	if closing := file.Close(); err == nil {
		err = closing
	}
	return err
}

// adoptFound asks which of the apps that were found are taken charge of, and for what is
// needed of each.
func (a *app) adoptFound(ctx context.Context, s *core.Core, seen *adopt.Seen) error {
	var can []adopt.Sighting
	var words []string
	for _, x := range seen.All {
		if x.Adoptable() {
			can, words = append(can, x), append(words, x.Address)
		}
	}
	if len(can) == 0 {
		return nil
	}
	asker := screen.NewAsker(a.Streams)
	var chosen []adopt.Sighting
	_, err := asker.Ask(ctx, wizard.Prompt{Text: "Manage which?", Fallback: "none", Words: words,
		Help: "Numbers of the list or addresses, with commas between them; all; or none.",
		Check: func(text string) (what, remedy string) {
			chosen, what, remedy = choose(text, seen, can)
			return what, remedy
		}})
	if err != nil {
		return err
	}
	code := 0
	for _, x := range chosen {
		asker.Heading(x.Title + " at " + x.Address)
		err := a.adoptAsking(ctx, s, adopt.Request{At: x.Address, Account: seen.Account})
		if ctx.Err() != nil || errors.Is(err, wizard.ErrNoAnswer) {
			return err
		}
		if err != nil {
			code = max(code, screen.Code(err))
		}
	}
	if code != 0 {
		return cli.Quiet(code)
	}
	return nil
}

// passwordTries is how often a name and a password are asked for that do not sign in.
const passwordTries = 3

// adoptAsking asks for the admin's name and password, and takes charge of an app.
func (a *app) adoptAsking(ctx context.Context, s *core.Core, r adopt.Request) error {
	for try := 1; ; try++ {
		given, err := a.askedFor(ctx, answer.Given{}, []string{answer.AdminName, site.AdminPassword})
		if err != nil {
			return err
		}
		r.Answers = given
		done, err := adopt.Adopt(ctx, s.Desk, r)
		if err == nil {
			a.CheckTable([]check.Examined{done})
			return nil
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		a.Streams.Fault(err)
		if try == passwordTries || !adopt.NoSignIn(done) {
			return err
		}
	}
}

// choose reads which of a list are meant: by number, by address, all or none.
func choose(text string, seen *adopt.Seen, can []adopt.Sighting) (chosen []adopt.Sighting, what, remedy string) {
	switch strings.ToLower(strings.TrimSpace(text)) {
	case "none":
		return nil, "", ""
	case "all":
		return can, "", ""
	}
	for _, word := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		x, what, remedy := pick(word, seen, can)
		if what != "" {
			return nil, what, remedy
		}
		chosen = append(chosen, x)
	}
	return chosen, "", ""
}

func pick(word string, seen *adopt.Seen, can []adopt.Sighting) (x adopt.Sighting, what, remedy string) {
	var names []string
	for _, s := range seen.All {
		names = append(names, s.Address)
	}
	if n, err := strconv.Atoi(word); err == nil && n > 0 && n <= len(names) {
		x = seen.All[n-1]
	} else if address, err := place.Match(word, names); err == nil {
		x = seen.All[slices.Index(names, address)]
	}
	switch {
	case x.Address == "":
		return x, "“" + word + "” is none of them", strings.TrimSpace(
			suggest.Hint(word, names) + " Type a number of the list.",
		)
	case x.Recorded:
		return x, x.Address + " is looked after already", ""
	case !x.Adoptable():
		return x, x.Address + " cannot be managed", screen.Spelled(x.Problem)
	}
	return x, "", ""
}
