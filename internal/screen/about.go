package screen

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
)

// About shows what an app is, with what its kit says of its features.
func (s *Streams) About(e catalogue.Entry, features string) {
	s.Print("%s — %s\n", e.Title, e.Summary)
	if heading, rest, found := strings.Cut(features, "\n"); found && strings.HasPrefix(heading, "# ") {
		features = strings.TrimLeft(rest, "\n") // the line above says it
	}
	if features != "" {
		s.Print("%s\n", strings.TrimRight(Clean(features), "\n"))
	}
	licence := e.Licence.Name
	if e.Licence.MustAccept {
		licence += ", which must be accepted"
	}
	var releases, asks []string
	for _, r := range e.Releases {
		text := fmt.Sprintf("%-8s %s  %s", r.Release, r.Date, level(r.Level, r.Urgent))
		if r.Fixes != "" {
			text += ", gets fixes until " + r.Fixes
		}
		releases = append(releases, text)
	}
	for _, q := range e.Questions {
		asks = append(asks, askText(q))
	}
	if len(asks) == 0 {
		asks = []string{"nothing of its own"}
	}
	var extras []string
	for _, x := range e.Extras {
		extras = append(extras, fmt.Sprintf("%s (%s): %s", x.Text, x.Answer(), choices(x.Kind, x.Options, x.Default)))
	}
	all := []Pair{{Name: "Kind", Text: e.Kind}, {Name: "Licence", Text: licence},
		{Name: "Releases", Text: strings.Join(releases, "\n")},
		{Name: "Needs", Text: needsText(e)}, {Name: "Asks", Text: strings.Join(asks, "\n")}}
	if len(extras) > 0 {
		all = append(all, Pair{Name: "Extras", Text: strings.Join(extras, "\n")})
	}
	always := "title, language, the admin and the care"
	if e.Newest().NeedsDatabase() {
		always = "title, language, the admin, the database and the care"
	}
	all = append(all, Pair{Name: "And always", Text: always})
	s.Pairs(all)
}

func askText(q kit.Question) string {
	text := fmt.Sprintf("%s (%s): %s", q.Text, q.ID, choices(q.Kind, q.Options, q.Default))
	if c := q.Condition().String(); c != "" {
		text += ", when " + c
	}
	return text
}

// choices words what can be answered.
func choices(kind string, options []string, fallback string) string {
	text := map[string]string{"text": "a text", "long-text": "a text of several lines", "number": "a number",
		"yes-no": "yes or no", "email": "an e-mail address",
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
		text := "PHP " + Range(n.PHP.Version)
		if len(n.PHP.Extensions) > 0 {
			text += " with " + strings.Join(n.PHP.Extensions, ", ")
		}
		out = append(out, text)
	}
	var engines []string
	for _, engine := range slices.Sorted(maps.Keys(n.Database)) {
		engines = append(engines, Engine(engine)+" "+Range(n.Database[engine]))
	}
	if len(engines) > 0 {
		out = append(out, strings.Join(engines, ", or "))
	}
	if n.Space != "" {
		out = append(out, n.Space+" of space")
	}
	if len(out) == 0 {
		return "nothing in particular"
	}
	return strings.Join(out, "\n")
}
