package fill

import (
	"html"
	"net/url"
	"regexp"
	"strings"
)

// Back gives the value that a place's filters made another of, where they can be
// taken back.
func Back(p Part, made string) (string, bool) {
	for i := len(p.Filters) - 1; i >= 0; i-- {
		switch p.Filters[i] {
		case "number":
		case "flag":
			made = map[bool]string{true: "yes", false: "no"}[made == "true" || made == "1" || made == "yes"]
		case "url":
			plain, err := url.QueryUnescape(made)
			if err != nil {
				return "", false
			}
			made = plain
		case "url-part":
			plain, err := url.PathUnescape(made)
			if err != nil {
				return "", false
			}
			made = plain
		case "html":
			made = html.UnescapeString(made)
		default:
			return "", false
		}
	}
	return made, true
}

// Match finds the values from which Text made a text of a template; false when
// it did not.
func Match(template, text string) (Values, bool) {
	parts := Parse(template)
	var form strings.Builder
	for _, p := range parts {
		if p.Name == "" {
			form.WriteString(regexp.QuoteMeta(p.Text))
		} else {
			form.WriteString("(.*?)")
		}
	}
	m := regexp.MustCompile("(?s)^" + form.String() + "$").FindStringSubmatch(text)
	if m == nil {
		return nil, false
	}
	out := Values{}
	n := 0
	for _, p := range parts {
		if p.Name == "" {
			continue
		}
		n++
		if v, ok := Back(p, m[n]); ok {
			out[p.Name] = v
		}
	}
	return out, true
}
