package answer

import (
	"net/mail"
	"regexp"
	"strings"
)

var mailDomain = regexp.MustCompile(`^([a-z0-9]([a-z0-9-]*[a-z0-9])?\.)+[a-z][a-z0-9-]*[a-z0-9]$`)

// Email says what is wrong with an e-mail address (addr-spec of RFC 5322 with
// a domain name); it asks no server.
func Email(value string) (what, remedy string) {
	const write = "Write it as name@example.org."
	_, domain, found := strings.Cut(value, "@")
	if !found {
		return "an e-mail address has an @", write
	}
	parsed, err := mail.ParseAddress(value)
	if err != nil || parsed.Address != value || strings.Contains(domain, "@") {
		return "it is not an e-mail address", write
	}
	if !mailDomain.MatchString(strings.ToLower(domain)) {
		return "“" + domain + "” after the @ is not a full domain name", write
	}
	return "", ""
}
