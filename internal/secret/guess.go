package secret

import "strings"

// guessed are sign-in names that strangers try first.
var guessed = []string{
	"admin", "administrator", "adm", "root", "user", "test", "guest", "webmaster", "hostmaster", "postmaster",
	"support", "info", "manager", "owner", "master", "sysadmin", "superuser", "moderator", "editor", "demo",
	"blog", "forum", "shop", "site", "web", "www", "login", "operator", "staff",
}

// Guessable says why a sign-in name is easy to guess, or returns "". Names are
// the domain, the title and the app: whatever a stranger sees.
func Guessable(name string, names ...string) string {
	plain := squash(name)
	for _, g := range guessed {
		if strings.TrimRight(plain, "0123456789") == g {
			return "“" + name + "” is among the names that strangers try first"
		}
	}
	for _, n := range names {
		if s := squash(n); s != "" && (plain == s || strings.TrimRight(plain, "0123456789") == s) {
			return "“" + name + "” can be read off the site (" + n + ")"
		}
	}
	return ""
}

// squash keeps letters and digits, in lower case.
func squash(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r > 127 {
			return r
		}
		return -1
	}, strings.ToLower(s))
}
