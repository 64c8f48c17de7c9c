package command

import (
	"fmt"
	"io/fs"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/screen"
)

func (a *app) about() *cobra.Command {
	var licence bool
	c := &cobra.Command{
		Use:     "about APP",
		Short:   "Say what an app is, needs and asks",
		Example: "  tivset about moorings\n  tivset about moorings --licence",
		Args:    takes(1, 1, "APP"),
		RunE: func(_ *cobra.Command, args []string) error {
			c, err := openCatalogue(a.world.home())
			if err != nil {
				return err
			}
			e, err := c.Find(args[0])
			if err != nil {
				return err
			}
			if licence && !a.json {
				return a.printFile(e, e.Licence.Text)
			}
			return a.runAbout(e)
		},
		ValidArgsFunction: only(a.appWords),
	}
	c.Flags().BoolVar(&licence, "licence", false, "print the whole licence")
	return c
}

// printFile prints a text of the kit.
func (a *app) printFile(e catalogue.Entry, name string) error {
	if name == "" {
		a.streams.Print("%s", e.Licence.Name)
		return nil
	}
	text, err := fs.ReadFile(e.Files(), name)
	if err != nil {
		return err
	}
	a.streams.Print("%s", strings.TrimRight(screen.Clean(string(text)), "\n"))
	return nil
}

func (a *app) runAbout(e catalogue.Entry) error {
	if a.json {
		return a.streams.WriteJSON(newAboutJSON(e))
	}
	a.streams.Print("%s — %s\n", e.Title, e.Summary)
	if e.About != "" {
		if err := a.printFile(e, e.About); err != nil {
			return err
		}
		a.streams.Print("")
	}
	licence := e.Licence.Name
	if e.Licence.MustAccept {
		licence += ", which must be accepted"
	}
	var releases, asks []string
	for _, r := range e.Releases {
		text := fmt.Sprintf("%-8s %s  %s", r.Release, r.Date, r.Level)
		if r.Fixes != "" {
			text += ", gets fixes until " + r.Fixes
		}
		releases = append(releases, text)
	}
	for _, q := range e.Asks {
		asks = append(asks, askText(q))
	}
	if len(asks) == 0 {
		asks = []string{"nothing of its own"}
	}
	var extras []string
	for _, x := range e.Extras {
		extras = append(extras, fmt.Sprintf("%s (%s): %s", x.Ask, x.Answer(), choices(x.Kind, x.Options, x.Default)))
	}
	all := []screen.Pair{{Name: "Kind", Text: e.Kind}, {Name: "Licence", Text: licence}, {Name: "Releases", Text: strings.Join(releases, "\n")},
		{Name: "Needs", Text: needsText(e)}, {Name: "Asks", Text: strings.Join(asks, "\n")}}
	if len(extras) > 0 {
		all = append(all, screen.Pair{Name: "Extras", Text: strings.Join(extras, "\n")})
	}
	all = append(all, screen.Pair{Name: "And always", Text: "title, language, the admin, the database and the care; tivset install asks"})
	a.streams.Pairs(all)
	return nil
}

func askText(q kit.Ask) string {
	text := fmt.Sprintf("%s (%s): %s", q.Ask, q.ID, choices(q.Kind, q.Options, q.Default))
	if c := q.Condition().String(); c != "" {
		text += ", when " + c
	}
	return text
}

// choices words what can be answered.
func choices(kind string, options []string, fallback string) string {
	text := map[string]string{"text": "a text", "long-text": "a text of several lines", "number": "a number", "yes-no": "yes or no", "email": "an e-mail address",
		"web-address": "a web address", "folder-name": "the name of a folder"}[kind]
	switch kind {
	case "one-of":
		text = "one of " + strings.Join(options, ", ")
	case "several-of":
		text = "any of " + strings.Join(options, ", ")
	}
	if fallback != "" {
		text += "; else " + fallback
	}
	return text
}

func needsText(e catalogue.Entry) string {
	n := e.Newest().Needs
	var out []string
	if n.PHP != nil {
		text := "PHP " + screen.Range(n.PHP.Version)
		if len(n.PHP.Extensions) > 0 {
			text += " with " + strings.Join(n.PHP.Extensions, ", ")
		}
		out = append(out, text)
	}
	var engines []string
	for _, engine := range slices.Sorted(maps.Keys(n.Database)) {
		engines = append(engines, screen.Engine(engine)+" "+screen.Range(n.Database[engine]))
	}
	if len(engines) > 0 {
		out = append(out, strings.Join(engines, ", or "))
	}
	if n.Disk != "" {
		out = append(out, n.Disk+" of space")
	}
	if len(out) == 0 {
		return "nothing in particular"
	}
	return strings.Join(out, "\n")
}
