// Package answer gathers what an install needs to know, from files, options
// and questions, and checks all of it at once.
package answer

import (
	"cmp"
	"slices"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/suggest"
)

// Question is something that an install needs to know.
type Question struct {
	ID      string
	Text    string
	Short   string // the same in a word or two, for lists; Ask when it is ""
	Group   string // one of Groups
	Kind    string // one of Kinds
	Default string
	Needed  bool
	Rare    bool // few owners need it: folded away until asked for
	Quiet   bool // never asked: it can only be given
	Secret  bool // never shown, saved or logged
	Options []string
	Pattern string    // a regular expression for the whole answer …
	Form    string    // … and what it asks for, in words
	When    Condition // asked only when this holds for the answers before it
	Help    string

	// Check looks at an answer that has the right form and says what is wrong
	// with it and what to do; "" when it is fine. It may be nil.
	Check func(value string) (what, remedy string)
}

// Groups are the groups of questions, in the order in which people decide.
var Groups = []string{"Where", "Data", "Admin", "Site", "Care"}

// Given are answers by id, as they were given.
type Given map[string]string

// Resolve checks every answer against its question, without the spaces around it, and fills in
// the defaults.
// All problems come back at once; unknown answers, and answers to questions
// that other answers rule out, are problems too.
func Resolve(questions []Question, given Given) (Given, []fault.Problem) {
	out := Given{}
	var problems []fault.Problem
	var ids []string
	for _, q := range questions {
		ids = append(ids, q.ID)
		if !q.When.Holds(out) {
			problems = append(problems, q.ruledOut(given)...)
			continue
		}
		value, ok := given[q.ID]
		if !q.Secret { // in a password every character counts, and what is not meant has to be said
			value = strings.TrimSpace(value)
		}
		if !ok || value == "" && q.Default != "" {
			value = q.Default
		}
		if value == "" && q.Needed {
			problems = append(problems, q.missing())
		}
		if value == "" {
			out[q.ID] = ""
			continue
		}
		if what, remedy := q.Wrong(value); what != "" {
			problems = append(problems, fault.Problem{ID: q.ID, What: what, Remedy: remedy})
			continue
		}
		if q.Kind == "several-of" {
			value = cmp.Or(strings.Join(Chosen(value), ", "), None)
		}
		out[q.ID] = value
	}
	for id := range given {
		if !slices.Contains(ids, id) {
			remedy := cmp.Or(suggest.Hint(id, ids), "There are "+strings.Join(ids, ", ")+".")
			problems = append(problems, fault.Problem{ID: id, What: "there is no such answer", Remedy: remedy})
		}
	}
	slices.SortStableFunc(problems, func(a, b fault.Problem) int { return order(ids, a.ID) - order(ids, b.ID) })
	return out, problems
}

func (q *Question) ruledOut(given Given) []fault.Problem {
	if given[q.ID] == "" {
		return nil
	}
	return []fault.Problem{{ID: q.ID, What: "it is only asked when " + q.When.String(),
		Remedy: "Leave it out, or change that answer."}}
}

func (q *Question) missing() fault.Problem {
	how := "-a " + q.ID + "=…"
	if q.Secret {
		how = "-a " + q.ID + "=@FILE"
	}
	return fault.Problem{ID: q.ID, What: fault.Needed, Remedy: q.Text + ": give it with " + how}
}

// order puts what no question asks, by its id, after all questions.
func order(ids []string, id string) int {
	if i := slices.Index(ids, id); i >= 0 {
		return i
	}
	return len(ids)
}
