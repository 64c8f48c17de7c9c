package secret

import (
	"encoding/base64"
	"html"
	"net/url"
	"strings"
)

// shortest is how long a secret must be to be hidden in texts: a shorter one
// would be found in words that have nothing to do with it.
const shortest = 4

// Hide takes secrets out of a text, also as they stand in addresses and forms
// (RFC 3986, 2.1; WHATWG URL, 5.2), in pages, and in headers (RFC 7617).
func Hide(text string, secrets []string) string {
	for _, s := range secrets {
		if len(s) < shortest {
			continue
		}
		for _, form := range []string{s, url.QueryEscape(s), url.PathEscape(s), html.EscapeString(s),
			base64.StdEncoding.EncodeToString([]byte(s))} {
			text = strings.ReplaceAll(text, form, hidden)
		}
	}
	return text
}
