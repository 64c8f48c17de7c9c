package question

import (
	"cmp"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/answer/care"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
)

// Questions lists all that this install can be told, in the order in which
// people decide.
func (a *Asking) Questions() []answer.Question {
	out := []answer.Question{{ID: answer.Occupied, Text: "When something is in the way", Group: "Where", Kind: "one-of",
		Options: []string{"stop", "set-aside"}, Default: "stop", Quiet: true,
		Help: "stop: nothing is installed. set-aside: what is there is moved to Tivset's own folder in the " +
			"account, and can be put back."}}
	out = append(out, a.aboutSite()...)
	out = append(out, a.aboutAdmin()...)
	out = append(out, a.aboutData()...)
	out = append(out, a.aboutCare()...)
	for _, q := range a.Kit.Questions {
		if at := strings.ToLower(q.Group); at != "" && at != "site" {
			out = append(out, asked(q))
		}
	}
	for i, q := range out {
		if limit, is := a.Kit.Limits[q.ID]; is {
			out[i].Check = limited(limit, a.Kit.Title, q.Check)
		}
	}
	slices.SortStableFunc(out, func(a, b answer.Question) int {
		return slices.Index(answer.Groups, a.Group) - slices.Index(answer.Groups, b.Group)
	})
	return out
}

// limited looks at an answer as the app bears it, and then as ever.
func limited(l kit.Limit, app string, check func(string) (string, string)) func(string) (string, string) {
	return func(value string) (what, remedy string) {
		if value != Generate && !l.Fits(value) {
			return app + " does not accept this", "Use " + l.Hint + "."
		}
		if check == nil {
			return "", ""
		}
		return check(value)
	}
}

// aboutSite asks what visitors will see, and what the app wants to know.
func (a *Asking) aboutSite() []answer.Question {
	languages := a.Kit.Languages
	if len(languages) == 0 {
		languages = []string{"en"}
	}
	out := []answer.Question{
		{ID: "title", Text: "Title of the site", Short: "title", Group: "Site", Kind: "text", Needed: true,
			Check: titled, Help: "The name that visitors read at the top of every page. It can be changed later."},
	}
	if !a.Kit.Uses("title") { // it has none that could be set: the name is for whoever looks after several
		out[0].Default, out[0].Help = a.Kit.Title, "How the site is called here. The app itself shows no title."
	}
	licence := answer.Question{ID: answer.Licence, Text: "Accept the licence " + a.Kit.Licence.Name, Group: "Site",
		Kind: "one-of", Options: []string{"accept", "decline"}, Default: "decline",
		Help: "The app can only be installed when its licence is accepted. Read it with: " +
			fault.Call("about", a.Kit.App, "--licence")}
	if !a.Kit.Licence.MustAccept {
		licence.Default, licence.Quiet = "accept", true
	}
	out = append(out, licence)
	for _, q := range a.Kit.Questions {
		if q.Group == "" || q.Group == "site" {
			out = append(out, asked(q))
		}
	}
	if a.Kit.Uses(answer.Subtitle) {
		out = append(out, answer.Question{ID: answer.Subtitle, Text: "Subtitle", Short: "subtitle",
			Group: "Site", Kind: "text", Rare: true, Help: "What the site is about, in a few words."})
	}
	out = append(out, answer.Question{ID: "language", Text: "Language", Short: "language", Group: "Site", Kind: "one-of",
		Options: languages, Default: languages[0], Rare: true, Help: "The language of the app's own words."})
	for _, e := range a.Kit.Extras {
		out = append(out, answer.Question{ID: e.Answer(), Text: e.Text, Short: lowerFirst(e.Text), Group: "Site",
			Kind:    e.Kind,
			Default: e.Default, Options: e.Options, Rare: true, Help: e.Help})
	}
	return out
}

// groupOf gives the group of a kit's question.
var groupOf = map[string]string{"": "Site", "site": "Site", "admin": "Admin", "data": "Data", "care": "Care"}

// asked is a kit's question. One that has a default, or that can be left open,
// is folded away.
func asked(q kit.Question) answer.Question {
	needed := q.Needed || q.NeededIf != ""
	return answer.Question{ID: q.ID, Text: q.Text, Short: lowerFirst(q.Text), Group: groupOf[q.Group], Kind: q.Kind,
		Default: q.Default, Needed: needed,
		Rare: q.Default != "" || !needed, Secret: q.Secret, Options: q.Options, Pattern: q.Pattern, Form: q.Hint,
		When: q.Condition(), Help: q.Help}
}

func (a *Asking) aboutCare() []answer.Question {
	usual := cmp.Or(a.Care, care.Usual)
	out := []answer.Question{
		decision("accepts", "Releases that are installed by themselves", "installs by itself", usual.Accepts,
			"fixes: those that only fix something; features: those that add something too; breaking: every one; nothing. "+
				"A backup is made first, and a release that fails its check is put back, always."),
		decision("after", "How long a release must have been out", "after", usual.After,
			"Others meet what is wrong with a release in its first days. One that fixes a security hole is not waited for."),
		decision("between", "Between which hours", "between the hours", usual.Between,
			"By this machine's clock. Updates, backups and checks are made then."),
		decision("rehearse", "Releases that are rehearsed", "rehearsed", usual.Rehearse,
			"A release is first installed on a copy, which is checked, compared with the site and removed again. What fails "+
				"there never reaches the site. from-fixes: each; from-features: features and breaking releases."),
		decision("backups", "Backups", "backups", usual.Backups,
			"How often, and of how many days, weeks and months the newest is kept.")}
	out[0].Options = []string{"fixes", "features", "breaking", "nothing"}
	out[3].Options = []string{"from-fixes", "from-features", "breaking", "nothing"}
	notify := decision("notify", "Whom to notify, and of what", "notify", usual.Notify,
		"trouble: when something failed; changes: after each update too; everything: of backups and checks too.")
	notify.Quiet = a.Account.Mail == nil // may be given all the same, with a site from elsewhere
	out = append(out, notify)
	if a.Account.Mail != nil {
		out = append(out,
			answer.Question{ID: "handover.to", Text: "Hand the site over to", Short: "handed over to", Group: "Admin",
				Kind: "email", Rare: true,
				Help: "A page with all that one has to know of the site is mailed there. The password only when you say so."},
			answer.Question{ID: "handover.password", Text: "With the password on that page", Short: "with the password",
				Group: "Admin", Kind: "yes-no", Default: "no", Rare: true, When: when("handover.to"),
				Help: "Mail can be read on its way. Without it, the page says how to get one."})
	}
	return out
}

// decision is a question about the care.
func decision(name, ask, short, usual, help string) answer.Question {
	form := care.Forms[name]
	q := answer.Question{
		ID:      "care." + name,
		Text:    ask,
		Short:   short,
		Group:   "Care",
		Kind:    "text",
		Default: usual,
		Rare:    true,
		Help:    help,
		Pattern: form.Pattern,
		Form:    form.Words,
	}
	if name == "accepts" || name == "rehearse" {
		q.Kind, q.Pattern, q.Form = "one-of", "", ""
	}
	return q
}

// when is a condition of our own, which is known to be well formed.
func when(text string) answer.Condition {
	c, err := answer.ParseCondition(text)
	if err != nil {
		panic(err)
	}
	return c
}

func titled(value string) (what, remedy string) {
	if len([]rune(value)) > 120 {
		return "a title of more than 120 characters does not fit", "Shorten it."
	}
	return "", ""
}

// Seen are the words that a stranger sees, which make poor names and passwords.
func (a *Asking) Seen() []string {
	return []string{a.Given["title"], a.Kit.App, a.Kit.Title, a.Domain, strings.Split(a.Domain, ".")[0], a.Dir}
}

// lowerFirst writes the words of a question inside of a list.
func lowerFirst(text string) string {
	if text == "" {
		return text
	}
	return strings.ToLower(text[:1]) + text[1:]
}
