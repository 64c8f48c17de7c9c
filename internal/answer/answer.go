// Package answer gathers what an install needs to know, from files and
// options, and checks all of it at once.
package answer

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"tivset/internal/fault"
	"tivset/internal/near"
)

// Question is something that an install needs to know.
type Question struct {
	ID      string
	Ask     string
	Group   string // Where, What, Admin, Data, Care
	Kind    string // text, number, yes-no, one-of, secret
	Default string
	Needed  bool
	Options []string // for one-of
	Pattern string   // a regular expression for the whole answer
	Help    string

	// Check looks at an answer that has the right form and says what is wrong
	// with it and what to do; "" when it is fine. It may be nil.
	Check func(value string) (what, remedy string)
}

// Given are answers by id, as they were given.
type Given map[string]string

// longest is how many characters an answer may have.
const longest = 200

// Resolve checks every answer against its question and fills in the defaults.
// All problems come back at once; unknown answers are problems too.
func Resolve(questions []Question, given Given) (Given, []fault.Problem) {
	out := Given{}
	var problems []fault.Problem
	var ids []string
	for _, q := range questions {
		ids = append(ids, q.ID)
		value, ok := given[q.ID]
		if !ok || value == "" && q.Default != "" {
			value = q.Default
		}
		if value == "" {
			if q.Needed {
				problems = append(problems, fault.Problem{ID: q.ID, What: fault.Needed, Remedy: q.Ask + ": give it with -a " + q.ID + "=…"})
			}
			out[q.ID] = ""
			continue
		}
		if what, remedy := q.Wrong(value); what != "" {
			problems = append(problems, fault.Problem{ID: q.ID, What: what, Remedy: remedy})
			continue
		}
		out[q.ID] = value
	}
	for id := range given {
		if !slices.Contains(ids, id) {
			remedy := strings.TrimSpace(near.Hint(id, ids) + " There are " + strings.Join(ids, ", ") + ".")
			problems = append(problems, fault.Problem{ID: id, What: "there is no such answer", Remedy: remedy})
		}
	}
	slices.SortStableFunc(problems, func(a, b fault.Problem) int { return order(ids, a.ID) - order(ids, b.ID) })
	return out, problems
}

func order(ids []string, id string) int {
	if i := slices.Index(ids, id); i >= 0 {
		return i
	}
	return len(ids)
}

var digitsOnly = regexp.MustCompile(`^-?[0-9]{1,18}$`)

// Wrong says what is wrong with an answer and what to do; "" when it is fine.
func (q *Question) Wrong(value string) (what, remedy string) {
	switch {
	case !utf8.ValidString(value):
		return "it is not text in UTF-8", "Save the file as UTF-8."
	case utf8.RuneCountInString(value) > longest:
		return fmt.Sprintf("it has %d characters", utf8.RuneCountInString(value)), fmt.Sprintf("Use at most %d.", longest)
	case strings.ContainsFunc(value, unicode.IsControl):
		return "it has control characters or line breaks", "Take them out."
	case q.Kind != "secret" && strings.TrimSpace(value) != value:
		return "it begins or ends with a space", "Take the space away."
	case q.Kind == "number" && !digitsOnly.MatchString(value):
		return fmt.Sprintf("%q is not a whole number", value), "Use digits only."
	case q.Kind == "yes-no" && value != "yes" && value != "no":
		return fmt.Sprintf("%q is neither yes nor no", value), "Write yes or no."
	case q.Kind == "one-of" && !slices.Contains(q.Options, value):
		return fmt.Sprintf("%q cannot be chosen", value), strings.TrimSpace(near.Hint(value, q.Options) + " Choose one of: " + strings.Join(q.Options, ", ") + ".")
	}
	if q.Pattern != "" {
		if whole, err := regexp.Compile("^(?:" + q.Pattern + ")$"); err != nil || !whole.MatchString(value) {
			return "it does not have the form that is asked for", "The form is " + q.Pattern + "."
		}
	}
	if q.Check != nil {
		return q.Check(value)
	}
	return "", ""
}
