package kit

import (
	"cmp"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/answer"
)

// usualExtras are the extras that several apps have, with the words in which
// every app's owner is asked for them.
var usualExtras = map[string]struct{ ask, help string }{
	"theme":      {"Theme", "How the site looks. It can be changed later."},
	"sample":     {"Sample content", "A few made-up entries, to see how the site looks when it is in use."},
	"languages":  {"Further languages", "The languages that visitors can switch to."},
	"extensions": {"Extensions", "What the app can do beyond its usual work."},
	"lockout":    {"Lock out repeated failed sign-ins", "Whoever types wrong passwords again and again has to wait."},
	"search-engines": {"Search engines welcome",
		"With no, search engines are asked to leave the site out: for a site that is not ready, or for a few."},
}

// groups are the words of a kit for the groups that its questions can be in.
var groups = []string{"", "data", "admin", "site", "care"}

func (c *checker) questions() {
	seen := map[string]bool{}
	known := []string{"language"}
	for i, a := range c.Questions {
		key := "questions." + strconv.Itoa(i)
		if !askName.MatchString(a.ID) || slices.Contains(commonAnswers, a.ID) || seen[a.ID] {
			c.wrong(key+".id", fmt.Sprintf("the id %q is taken or not a name", a.ID),
				"Use lower case letters, digits and -; each id once; not "+strings.Join(commonAnswers, ", ")+".")
		}
		seen[a.ID] = true
		c.need(key+".text", a.Text, "text: Name of the first board")
		c.oneOf(key+".kind", a.Kind, answer.Kinds)
		c.oneOf(key+".group", a.Group, groups)
		c.options(key, a.Kind, a.Options, a.Default)
		if _, err := regexp.Compile(a.Pattern); err != nil {
			c.wrong(key+".pattern", "the pattern is not a regular expression", "See the syntax of RE2.")
		}
		if a.NeededIf != "" && (a.AskedIf != "" || a.Needed) {
			c.wrong(key+".needed-if", "needed-if says both when it is asked and that it is needed",
				"Leave asked-if and needed out.")
		}
		if a.Secret && a.Default != "" {
			c.wrong(key+".default", "a secret has no default", "Leave it out; for one that is made, see secrets.")
		}
		c.condition(key+".needed-if", a.NeededIf, known)
		c.condition(key+".asked-if", a.AskedIf, known)
		// The groups are asked in their order, whatever the order of the kit.
		if n := slices.Index(groups[1:], cmp.Or(a.Group, "site")); i > 0 && n < slices.Index(groups[1:],
			cmp.Or(c.Questions[i-1].Group, "site")) {
			c.wrong(key+".group", "questions of the group "+cmp.Or(a.Group,
				"site")+" come before those of "+c.Questions[i-1].Group,
				"List the questions in the order of the groups: what, admin, data, care.")
		}
		known = append(known, a.ID)
	}
}

// options checks what can be chosen, and the default.
func (c *checker) options(key, kind string, options []string, fallback string) {
	chooses := kind == "one-of" || kind == "several-of"
	if chooses != (len(options) > 0) {
		c.wrong(key, "one-of and several-of have options, other kinds have none", "Add options: [a, b], or take them away.")
		return
	}
	for _, o := range options {
		if o == "" || o == answer.None || strings.ContainsAny(o, ",") || o == "yes" && kind == "several-of" {
			c.wrong(key+".options", fmt.Sprintf("%q cannot be an option", o), "Use names without commas, other than none.")
		}
	}
	q := answer.Question{Kind: kind, Options: options}
	if what, remedy := q.Wrong(fallback); fallback != "" && what != "" {
		c.wrong(key+".default", "the default will not do: "+what, remedy)
	}
}

// condition checks a condition and that the answers it looks at are asked
// before it.
func (c *checker) condition(key, text string, known []string) {
	condition, err := answer.ParseCondition(text)
	if err != nil {
		c.wrong(key, err.Error(), "See “Conditions” in docs/kit.md.")
		return
	}
	for _, name := range condition.Names() {
		if !slices.Contains(known, name) {
			c.wrong(key, "no question before this has the id "+name, "Put the question first, or correct the id.")
			return
		}
	}
	if id := condition.Impossible(c.possible); id != "" {
		c.wrong(key, fmt.Sprintf("%q never holds: no answer to %s meets it", text, id),
			"Look at the options of "+id+", and at what else the condition says of it.")
	}
}

// possible lists all that an answer can be; nil for any text.
func (c *checker) possible(id string) []string {
	kind, options := "", []string(nil)
	if q := c.Question(id); q != nil {
		kind, options = q.Kind, q.Options
	}
	for _, e := range c.Extras {
		if e.Answer() == id {
			kind, options = cmp.Or(e.Kind, "yes-no"), e.Options
		}
	}
	switch kind {
	case "yes-no":
		return []string{"yes", "no"}
	case "one-of":
		return append([]string{""}, options...)
	case "several-of": // all and none, and each alone: conditions ask for those that are among them
		return append([]string{"", strings.Join(options, ", ")}, options...)
	}
	return nil
}

// answers lists the ids that conditions of steps can look at.
func (c *checker) answers() []string {
	known := []string{"language"}
	for _, a := range c.Questions {
		known = append(known, a.ID)
	}
	for _, e := range c.Extras {
		known = append(known, e.Answer())
	}
	return known
}

// extras fills in the usual words and checks.
func (c *checker) extras() {
	seen := map[string]bool{}
	for i := range c.Extras {
		e := &c.Extras[i]
		key := "extras." + strconv.Itoa(i)
		usual := usualExtras[e.ID]
		e.Text, e.Help = cmp.Or(e.Text, usual.ask), cmp.Or(e.Help, usual.help)
		e.Kind = cmp.Or(e.Kind, "yes-no")
		if e.Kind == "several-of" {
			e.Default = cmp.Or(e.Default, answer.None)
		}
		if !askName.MatchString(e.ID) || seen[e.ID] {
			c.wrong(key+".id", fmt.Sprintf("the id %q is taken or not a name", e.ID),
				"Use lower case letters, digits and -; each id once.")
		}
		seen[e.ID] = true
		c.need(key+".text", e.Text, "text: Sample content")
		c.oneOf(key+".kind", e.Kind, []string{"yes-no", "one-of", "several-of"})
		c.need(key+".default", e.Default, "default: no")
		c.options(key, e.Kind, e.Options, e.Default)
		for option, parts := range e.Parts {
			if option != "yes" && !slices.Contains(e.Options, option) {
				c.wrong(key+".parts", "there is no option "+option, "The options are yes, or those listed.")
			}
			for _, p := range parts {
				c.inside(key+".parts."+option, p)
			}
		}
	}
}

// limits checks what the kit says of answers that every app has.
func (c *checker) limits() {
	for _, id := range slices.Sorted(maps.Keys(c.Limits)) {
		l := c.Limits[id]
		c.oneOf("limits."+id, id, Limited)
		if _, err := regexp.Compile(l.Pattern); err != nil || l.Pattern == "" {
			c.wrong("limits."+id+".pattern", fmt.Sprintf("%q is not a regular expression", l.Pattern),
				`Write it as "[a-z0-9]{3,16}".`)
		}
		c.need("limits."+id+".hint", l.Hint, "hint: at most 16 letters and digits")
	}
}
