package site

import (
	"fmt"

	"tivset/internal/account"
	"tivset/internal/answer"
	"tivset/internal/kit"
	"tivset/internal/secret"
)

// Generate is the answer that asks for a password to be made.
const Generate = "generate"

// GeneratedLength is the length of a generated admin password.
const GeneratedLength = 20

// questions lists all that an install of this app into this account can be
// told. Seen are the names that a stranger sees, which make poor sign-in names.
func questions(k *kit.Kit, a *account.Account, given answer.Given, domain string, proposal string) []answer.Question {
	languages := k.Languages
	if len(languages) == 0 {
		languages = []string{"en"}
	}
	seen := []string{given["title"], k.App, k.Title, domain}
	out := []answer.Question{
		{ID: "title", Ask: "Title of the site", Group: "What", Kind: "text", Needed: true, Check: titled},
		{ID: "tagline", Ask: "A line below the title", Group: "What", Kind: "text"},
		{ID: "language", Ask: "Language", Group: "What", Kind: "one-of", Options: languages, Default: languages[0]},
	}
	if k.Licence.MustAccept {
		out = append(out, answer.Question{ID: "licence", Ask: "Accept the licence " + k.Licence.Name, Group: "What", Kind: "one-of", Options: []string{"accept", "decline"}, Default: "decline"})
	} else {
		out = append(out, answer.Question{ID: "licence", Ask: "Licence " + k.Licence.Name, Group: "What", Kind: "one-of", Options: []string{"accept", "decline"}, Default: "accept"})
	}
	for _, q := range k.Asks {
		out = append(out, answer.Question{ID: q.ID, Ask: q.Ask, Group: "What", Kind: q.Kind, Default: q.Default, Needed: q.Needed, Options: q.Options, Pattern: q.Pattern, Help: q.Help})
	}
	out = append(out,
		answer.Question{ID: "admin.name", Ask: "Sign-in name of the admin", Group: "Admin", Kind: "text", Default: proposal, Pattern: `[A-Za-z0-9][A-Za-z0-9._-]{2,39}`, Check: notGuessable(seen)},
		answer.Question{ID: "admin.email", Ask: "E-mail address of the admin", Group: "Admin", Kind: "text", Needed: true, Check: answer.Email},
		answer.Question{ID: "admin.password", Ask: "Password of the admin", Group: "Admin", Kind: "secret", Default: Generate, Check: strong(append(seen, given["admin.name"]))},
	)
	out = append(out, dataQuestions(a)...)
	if a.Mail != nil {
		out = append(out,
			answer.Question{ID: "details.to", Ask: "Mail the site's details to", Group: "Care", Kind: "text", Check: answer.Email},
			answer.Question{ID: "details.password", Ask: "With the password in that mail", Group: "Care", Kind: "yes-no", Default: "no"})
	}
	return append(out, careQuestions()...)
}

func dataQuestions(a *account.Account) []answer.Question {
	var servers []string
	for _, d := range a.Databases {
		servers = append(servers, d.Name)
	}
	out := []answer.Question{{ID: "data.from", Ask: "Where the site keeps its data", Group: "Data", Kind: "one-of", Options: []string{"new"}, Default: "new"}}
	if len(servers) > 0 {
		out = append(out, answer.Question{ID: "data.server", Ask: "Database server", Group: "Data", Kind: "one-of", Options: servers})
	}
	return out
}

func careQuestions() []answer.Question {
	choice := func(id, ask, first string, others ...string) answer.Question {
		return answer.Question{ID: id, Ask: ask, Group: "Care", Kind: "one-of", Default: first, Options: append([]string{first}, others...)}
	}
	return []answer.Question{
		choice("occupied", "When something is in the way", "stop"),
		choice("care.updates", "Updates that the site takes by itself", "fixes", "off", "all"),
		choice("care.backup", "Backup before an update", "before", "off"),
		choice("care.extensions", "Update extensions", "off", "on"),
		choice("care.themes", "Update themes", "off", "on"),
	}
}

func titled(value string) (what, remedy string) {
	if len([]rune(value)) > 120 {
		return "a title of more than 120 characters does not fit", "Shorten it."
	}
	return "", ""
}

func notGuessable(seen []string) func(string) (string, string) {
	return func(value string) (what, remedy string) {
		if why := secret.Guessable(value, seen...); why != "" {
			return why, "Choose a name that nobody would try, or leave it out and one is made."
		}
		return "", ""
	}
}

// longestPassword is as much of a password as bcrypt reads, in bytes.
const longestPassword = 72

func strong(seen []string) func(string) (string, string) {
	return func(value string) (what, remedy string) {
		const make = "Leave it out and one is made, or see: tivset password"
		if value == Generate {
			return "", ""
		}
		if len(value) > longestPassword {
			return fmt.Sprintf("a password of more than %d bytes is cut off by many apps", longestPassword), "Shorten it."
		}
		if s := secret.Rate(value, seen...); s.Points < secret.Floor {
			why := ""
			for _, r := range s.Reasons {
				why += ", " + r
			}
			return fmt.Sprintf("it scores %d of 100, and %d are needed%s", s.Points, secret.Floor, why), make
		}
		return "", ""
	}
}
