// Package fill puts values into the places that a text names, such as
// {admin.name} or {admin.password | bcrypt}.
//
// A place is a brace, a lower case name, any number of filters, a brace. A
// doubled brace around a name stands for the braces themselves: {{name}} gives
// {name}. Braces around anything else are left alone, so that program text can
// hold them.
package fill

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/suggest"
)

// Values are the values by name.
type Values map[string]string

// Part is a piece of a text: either literal or a place.
type Part struct {
	Text    string   // literal text, when Name is ""
	Name    string   // the value's name
	Filters []string // what is done to the value, in order
	Offset  int      // where in the text it begins, in bytes
}

const word = `[a-z][a-z0-9_-]*(?:\.[a-z0-9_-]+)*(?:[ ]*\|[ ]*[a-z0-9-]+)*`

var places = regexp.MustCompile(`\{\{(` + word + `)\}\}|\{(` + word + `)\}`)

// Parse cuts a text into its parts. Nothing can be wrong with a text as such;
// Check tells whether the names and filters exist.
func Parse(text string) []Part {
	var parts []Part
	end := 0
	for _, m := range places.FindAllStringSubmatchIndex(text, -1) {
		if m[0] > end {
			parts = append(parts, Part{Text: text[end:m[0]], Offset: end})
		}
		if m[2] >= 0 { // doubled braces
			parts = append(parts, Part{Text: "{" + text[m[2]:m[3]] + "}", Offset: m[0]})
		} else {
			names := strings.Split(text[m[4]:m[5]], "|")
			for i := range names {
				names[i] = strings.TrimSpace(names[i])
			}
			parts = append(parts, Part{Name: names[0], Filters: names[1:], Offset: m[0]})
		}
		end = m[1]
	}
	if end < len(text) {
		parts = append(parts, Part{Text: text[end:], Offset: end})
	}
	return parts
}

var single = regexp.MustCompile(`\{` + word + `\}`)

// Escape doubles the braces of what would be a place, so that Text gives the text as it
// was.
func Escape(text string) string { return single.ReplaceAllString(text, "{$0}") }

// Value gives what belongs in the place: the value after its filters.
func (p Part) Value(values Values) (string, error) {
	v, ok := values[p.Name]
	if !ok {
		return "", unknown(p.Name, slices.Sorted(maps.Keys(values)))
	}
	for _, f := range p.Filters {
		do, ok := filters[f]
		if !ok {
			return "", unknownFilter(f)
		}
		var err error
		if v, err = do(v); err != nil {
			return "", fmt.Errorf("{%s | %s}: %w", p.Name, f, err)
		}
	}
	return v, nil
}

// Text fills every place of a text.
func Text(text string, values Values) (string, error) {
	var out strings.Builder
	for _, p := range Parse(text) {
		if p.Name == "" {
			out.WriteString(p.Text)
			continue
		}
		v, err := p.Value(values)
		if err != nil {
			return "", err
		}
		out.WriteString(v)
	}
	return out.String(), nil
}

// Check reports the first place that names a value not in known, or a filter
// that does not exist.
func Check(text string, known []string) error {
	for _, p := range Parse(text) {
		if p.Name == "" {
			continue
		}
		if !slices.Contains(known, p.Name) {
			return unknown(p.Name, known)
		}
		for _, f := range p.Filters {
			if _, ok := filters[f]; !ok {
				return unknownFilter(f)
			}
		}
	}
	return nil
}

func unknown(name string, known []string) error {
	return fmt.Errorf("no value is called {%s}. %s", name, suggest.Hint(name, known))
}

func unknownFilter(name string) error {
	all := slices.Sorted(maps.Keys(filters))
	return fmt.Errorf("no filter is called %q; there are %s", name, strings.Join(all, ", "))
}
