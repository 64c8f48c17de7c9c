package answer

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Condition says when something applies. It is terms joined by “and”:
//
//	ID              the answer is yes, or any other text than no
//	not ID          the answer is no or empty
//	ID == VALUE     the answer is VALUE
//	ID != VALUE     the answer is anything else
//	ID has VALUE    VALUE is among those chosen of several
//
// The zero value always holds.
type Condition struct{ terms []term }

type term struct{ id, sign, value string }

// Never is a condition that never holds.
var Never = Condition{[]term{{"", "==", "never"}}}

// And is the condition that holds when both do.
func (c Condition) And(other Condition) Condition {
	return Condition{append(slices.Clone(c.terms), other.terms...)}
}

var termForm = regexp.MustCompile(`^(not +)?([a-z][a-z0-9.-]*)(?: *(==|!=| has ) *(.+))?$`)

// ParseCondition reads a condition; "" always holds.
func ParseCondition(text string) (Condition, error) {
	var c Condition
	if strings.TrimSpace(text) == "" {
		return c, nil
	}
	for _, part := range strings.Split(text, " and ") {
		m := termForm.FindStringSubmatch(strings.TrimSpace(part))
		if m == nil || m[1] != "" && m[3] != "" {
			return c, fmt.Errorf("%q is not a condition; write ID, not ID, ID == VALUE, ID != VALUE or ID has VALUE", part)
		}
		t := term{id: m[2], sign: strings.TrimSpace(m[3]), value: strings.TrimSpace(m[4])}
		if m[1] != "" {
			t.sign = "not"
		}
		c.terms = append(c.terms, t)
	}
	return c, nil
}

// Names lists the ids of the answers that the condition looks at.
func (c Condition) Names() []string {
	var out []string
	for _, t := range c.terms {
		out = append(out, t.id)
	}
	return out
}

// Impossible names an answer that no answer could meet the condition with; empty where all
// can be met. Options gives all that an answer can be, where that is known; nil for any
// text.
func (c Condition) Impossible(options func(id string) []string) string {
	for _, t := range c.terms {
		candidates := options(t.id)
		if candidates == nil {
			candidates = []string{"", "another"}
			for _, other := range c.terms {
				candidates = append(candidates, other.value)
			}
		}
		meets := func(value string) bool {
			return !slices.ContainsFunc(c.terms, func(o term) bool { return o.id == t.id && !o.holds(value) })
		}
		if !slices.ContainsFunc(candidates, meets) {
			return t.id
		}
	}
	return ""
}

// Holds says whether the condition is met by these answers.
func (c Condition) Holds(given Given) bool {
	for _, t := range c.terms {
		if !t.holds(given[t.id]) {
			return false
		}
	}
	return true
}

func (t term) holds(value string) bool {
	switch t.sign {
	case "==":
		return value == t.value
	case "!=":
		return value != t.value
	case "has":
		return slices.Contains(Chosen(value), t.value)
	case "not":
		return value == "" || value == "no"
	}
	return value != "" && value != "no"
}

// String words the condition for people.
func (c Condition) String() string {
	words := map[string]string{"==": "is", "!=": "is not", "has": "has"}
	var out []string
	for _, t := range c.terms {
		switch t.sign {
		case "":
			out = append(out, t.id+" is given")
		case "not":
			out = append(out, t.id+" is not given")
		default:
			out = append(out, t.id+" "+words[t.sign]+" "+t.value)
		}
	}
	return strings.Join(out, " and ")
}

// None is the answer that chooses nothing of several.
const None = "none"

// Chosen takes an answer to a several-of question apart.
func Chosen(value string) []string {
	var out []string
	for _, v := range strings.Split(value, ",") {
		if v = strings.TrimSpace(v); v != "" && v != None {
			out = append(out, v)
		}
	}
	return out
}
