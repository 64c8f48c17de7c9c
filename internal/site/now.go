package site

import (
	"slices"
	"strings"
	"unicode"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/records/ledger"
)

// As gives the same site as it says itself to be: with the title, subtitle,
// language and admin that were read from it. What was not read stays.
func (s *Site) As(now fill.Values) *Site {
	other := *s
	take(now, &other.Face.Title, &other.Face.Language, &other.Admin.Name, &other.Admin.Email)
	if subtitle, read := now[answer.Subtitle]; read {
		other.Face.Subtitle = printed(subtitle)
	}
	return &other
}

// take puts what was read where it belongs. Nothing is no title and no name.
func take(now fill.Values, title, language, name, email *string) {
	to := map[string]*string{"title": title, "language": language, answer.AdminName: name, answer.AdminEmail: email}
	for id, text := range to {
		if v := printed(now[id]); v != "" {
			*text = v
		}
	}
}

// printed is what was read as one line of printable text, as a record has it.
func printed(v string) string {
	return strings.Join(strings.Fields(strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) {
			return r
		}
		return ' '
	}, v)), " ")
}

// Note brings a record up to date with what was read from the site.
func Note(x *ledger.Site, now fill.Values) {
	take(now, &x.Title, &x.Language, &x.Admin.Name, &x.Admin.Email)
	subtitle, read := now[answer.Subtitle]
	if !read {
		return
	}
	x.Chosen = slices.DeleteFunc(slices.Clone(x.Chosen), func(c ledger.Choice) bool { return c.ID == answer.Subtitle })
	if subtitle = printed(subtitle); subtitle != "" {
		x.Chosen = append(x.Chosen, ledger.Choice{ID: answer.Subtitle, Answer: subtitle})
	}
	slices.SortFunc(x.Chosen, func(a, b ledger.Choice) int { return strings.Compare(a.ID, b.ID) })
}
