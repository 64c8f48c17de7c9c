package question

import (
	"fmt"
	"strconv"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/secret"
)

// Generate is the answer that asks for a password to be made.
const Generate = "generate"

// GeneratedLength is the usual length of a generated admin password.
const GeneratedLength = 20

// aboutAdmin asks who looks after the site.
func (a *Asking) aboutAdmin() []answer.Question {
	name := answer.Question{
		ID:      answer.AdminName,
		Text:    "Sign-in name of the admin",
		Short:   "name",
		Group:   "Admin",
		Kind:    "text",
		Default: a.Proposed.AdminName,
		Pattern: `[A-Za-z0-9][A-Za-z0-9._-]{2,39}`,
		Form:    "3 to 40 letters, digits, dots, - and _, beginning with a letter or digit",
		Check:   a.notGuessable,
		Help: "The name to sign in with. One that nobody would try, so not admin, nor what can be read off the site; the " +
			"proposal will do.",
	}
	if a.Kit.AccountElsewhere() {
		return a.aboutAccountElsewhere()
	}
	out := []answer.Question{name,
		{
			ID:     answer.AdminEmail,
			Text:   "E-mail address of the admin",
			Short:  "e-mail",
			Group:  "Admin",
			Kind:   "email",
			Needed: true,
			Help:   "Where the app sends what the admin must know, and a new password when the old one is lost.",
		},
		{ID: answer.AdminPassword, Text: "Password of the admin", Short: "password", Group: "Admin", Kind: "text",
			Secret:  true,
			Default: Generate, Check: a.strong,
			Help: "One is made that nobody can guess; it is shown at the end and kept in the vault."},
		{ID: "admin.password-length", Text: "Length of a password that is made", Short: "password length", Group: "Admin",
			Kind: "number", Default: strconv.Itoa(GeneratedLength), Quiet: true, Check: passwordLength,
			Help: "In characters, 12 to 72."},
		{ID: "admin.password-of", Text: "What a password that is made consists of", Short: "password characters",
			Group: "Admin", Kind: "one-of", Options: []string{"all", "alnum", "letters"}, Default: "all", Quiet: true,
			Help: "all: letters, digits and symbols; alnum: without symbols; letters: letters only."}}
	for _, q := range []answer.Question{
		{ID: answer.AdminFirstName, Text: "First name of the admin", Short: "first name", Kind: "text"},
		{ID: answer.AdminLastName, Text: "Last name of the admin", Short: "last name", Kind: "text"},
		{ID: "support.email", Text: "E-mail address for visitors' questions", Short: "e-mail for visitors", Kind: "email",
			Help: "Shown to visitors. The admin's when left out."},
	} {
		if a.Kit.Uses(q.ID) {
			q.Group, q.Rare = "Admin", true
			out = append(out, q)
		}
	}
	if a.Kit.Place.AdminFolder != "" {
		out = append(out, answer.Question{ID: answer.AdminFolder, Text: "Folder of the admin area", Short: "admin folder",
			Group: "Admin", Kind: "folder-name", Default: "office-" + a.Proposed.Token, Rare: true, Check: a.adminFolder,
			Help: "Under a name of its own, the admin area is not where strangers look for it."})
	}
	return append(out,
		answer.Question{ID: "admin.name-risk", Text: "Take a sign-in name that is easy to guess", Group: "Admin",
			Kind: "one-of", Options: []string{"refuse", "accept"}, Default: "refuse", Quiet: true,
			Help: "accept: the name is taken as it is, for those who must."},
		answer.Question{ID: "admin.email-check", Text: "Ask whether the e-mail address's domain takes mail",
			Short: "e-mail domain checked", Group: "Admin", Kind: "yes-no", Default: "no", Quiet: true,
			Help: "Asks the name servers; needs the network."})
}

// aboutAccountElsewhere asks for an account that is there: it is used once, to
// see that signing in works, and kept for later checks.
func (a *Asking) aboutAccountElsewhere() []answer.Question {
	return []answer.Question{
		{ID: answer.AdminName, Text: "Name or address of an account to sign in with", Short: "sign-in name", Group: "Admin",
			Kind: "text", Needed: true, Help: a.Kit.Title +
				" has no accounts of its own. With one that is there Tivset sees whether signing in works."},
		{
			ID:     answer.AdminEmail,
			Text:   "E-mail address of the person who looks after the site",
			Short:  "e-mail",
			Group:  "Admin",
			Kind:   "email",
			Needed: true,
			Help:   "Kept with the site; details can be sent there.",
		},
		{
			ID:     answer.AdminPassword,
			Text:   "Password of that account",
			Short:  "password",
			Group:  "Admin",
			Kind:   "text",
			Secret: true,
			Needed: true,
			Check:  notMade,
			Help:   "It stays as it is. It is kept in the vault, for later checks.",
		},
		{ID: "admin.email-check", Text: "Ask whether the e-mail address's domain takes mail", Short: "e-mail domain checked",
			Group: "Admin", Kind: "yes-no", Default: "no", Quiet: true, Help: "Asks the name servers; needs the network."}}
}

// notMade refuses the word that makes a password elsewhere.
func notMade(value string) (what, remedy string) {
	if value == Generate {
		return "this app has no accounts for which a password could be made",
			"Give the password of the account, as admin.password=@FILE."
	}
	return "", ""
}

func (a *Asking) notGuessable(value string) (what, remedy string) {
	if a.Given["admin.name-risk"] == "accept" {
		return "", ""
	}
	if why := secret.Guessable(value, a.Seen()...); why != "" {
		return why, "Choose a name that nobody would try, or leave it out and one is made. Who must have it: -a " +
			"admin.name-risk=accept"
	}
	return "", ""
}

// shortestMade is the least length of a generated admin password, in
// characters: the shortest whose every alphabet stays above the floor.
const shortestMade = 12

func passwordLength(value string) (what, remedy string) {
	n, err := strconv.Atoi(value)
	if err != nil || n < shortestMade || n > secret.Longest {
		return fmt.Sprintf(
			"a length of %s will not do",
			value,
		), fmt.Sprintf("Choose %d to %d.", shortestMade, secret.Longest)
	}
	return "", ""
}

// adminFolder refuses a name that the app uses for something else; the plan
// knows the archive and looks again.
func (a *Asking) adminFolder(value string) (what, remedy string) {
	if why := secret.Guessable(value); why != "" {
		return why, "Choose a name that nobody would try, or leave it out and one is made."
	}
	return "", ""
}

// longestPassword is as much of a password as bcrypt reads, in bytes.
const longestPassword = 72

func (a *Asking) strong(value string) (what, remedy string) {
	leave := "Leave it out and one is made, or see: " + fault.Call("password")
	if value == Generate {
		return "", ""
	}
	if len(value) > longestPassword {
		return fmt.Sprintf("a password of more than %d bytes is cut off by many apps", longestPassword), "Shorten it."
	}
	if s := secret.Gauge(value, append(a.Seen(), a.Given[answer.AdminName])...); !s.Enough {
		why := ""
		if len(s.Reasons) > 0 {
			why = ": " + strings.Join(s.Reasons, ", ")
		}
		return "it can be guessed in " + s.Lasts + ". A password here must hold for a century" + why, leave
	}
	return "", ""
}
