// Package care is what an owner entrusts: which releases a site takes by itself, when, and
// who is told of it. It decides nothing else and carries nothing out.
package care

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"tivset/internal/fault"
)

// Care is what the owner entrusts, in decisions; Sentence says them. A backup before an
// update, and putting back what fails, are none: they always happen.
type Care struct {
	Takes string `json:"takes"` // nothing, or releases up to a level: fixes, features, breaking
	Waits string `json:"waits"` // how long a release must have been out, in days: 3d; urgent ones are not waited for
	Hours string `json:"hours"` // when, in hours of the machine that does it: 02-05, over midnight 22-04; or any
	Tells string `json:"tells"` // whom, and of what: ADDRESS, trouble | changes | everything; or nobody
}

// Usual is what is taken when nothing is said.
var Usual = Care{Takes: "fixes", Waits: "3d", Hours: "02-05", Tells: "trouble"}

// Levels are what Takes can be, the farthest last.
var Levels = []string{"nothing", "fixes", "features", "breaking"}

// Forms of the decisions, as regular expressions (RE2) of the whole.
const (
	WaitsForm = `[0-9]{1,2}d`
	HoursForm = `any|([01][0-9]|2[0-3])-([01][0-9]|2[0-3])`
	TellsForm = `nobody|([^ ,@]+@[^ ,@]+, ?)?(trouble|changes|everything)`
)

var tellsForm = regexp.MustCompile(`^(?:` + TellsForm + `)$`)

// UnmarshalJSON reads a record, one of the first form too: it had updates, mails and
// others that are decisions no more.
func (c *Care) UnmarshalJSON(text []byte) error {
	type plain Care
	var found struct {
		plain
		Updates string `json:"updates"`
		Mails   string `json:"mails"`
	}
	if err := json.Unmarshal(text, &found); err != nil {
		return err
	}
	if *c = Care(found.plain); found.Updates == "" {
		return nil
	}
	*c = Usual
	if c.Takes = map[string]string{"off": "nothing", "all": "breaking"}[found.Updates]; c.Takes == "" {
		c.Takes = Usual.Takes
	}
	c.Waits = "0d" // nobody waited then
	if tells := map[string]string{"off": "nobody", "all": "changes"}[found.Mails]; tells != "" {
		c.Tells = tells
	}
	return nil
}

// Decisions are the names of what is decided, in the order in which it is said.
var Decisions = []string{"takes", "waits", "hours", "tells"}

var forms = map[string]struct {
	form  *regexp.Regexp
	words string
}{
	"takes": {regexp.MustCompile(`^(nothing|fixes|features|breaking)$`), "one of nothing, fixes, features, breaking"},
	"waits": {regexp.MustCompile(`^(?:` + WaitsForm + `)$`), "a number of days, such as 3d"},
	"hours": {regexp.MustCompile(`^(?:` + HoursForm + `)$`), "two hours with a dash, such as 02-05, or any"},
	"tells": {tellsForm, "trouble, changes or everything, or ADDRESS, trouble; or nobody"},
}

// With decides some of it anew, by the names of the decisions. What will not do is a usage
// fault that says all that is wrong.
func (c Care) With(decided map[string]string) (Care, error) {
	var problems []fault.Problem
	for _, name := range Decisions {
		value, said := decided[name]
		if !said {
			continue
		}
		if f := forms[name]; !f.form.MatchString(value) {
			problems = append(problems, fault.Problem{ID: name, What: fmt.Sprintf("%q will not do", value),
				Remedy: "It is " + f.words + "."})
		}
		*c.decision(name) = value
	}
	return c, fault.Join("that cannot be entrusted", "", problems)
}

func (c *Care) decision(name string) *string {
	return map[string]*string{"takes": &c.Takes, "waits": &c.Waits, "hours": &c.Hours, "tells": &c.Tells}[name]
}

// TakesLevel says whether a release of a level is taken by itself.
func (c Care) TakesLevel(level string) bool {
	return slices.Index(Levels, level) <= max(0, slices.Index(Levels, c.Takes))
}

// Waited says whether a release that came out on a day (YYYY-MM-DD) has been out for long
// enough. One whose day is not known has.
func (c Care) Waited(out string, now time.Time) bool {
	day, err := time.Parse(time.DateOnly, out)
	return err != nil || !now.Before(day.AddDate(0, 0, c.Days()))
}

// Days is for how many days a release must have been out.
func (c Care) Days() int {
	n, err := strconv.Atoi(strings.TrimSuffix(c.Waits, "d"))
	if err != nil {
		return 0
	}
	return n
}

// Now says whether it is the hour for it. Hours are those that a clock on the wall shows,
// also on days on which it is set.
func (c Care) Now(now time.Time) bool {
	from, to, found := strings.Cut(c.Hours, "-")
	a, errA := strconv.Atoi(from)
	b, errB := strconv.Atoi(to)
	hour := now.Hour()
	switch {
	case !found || errA != nil || errB != nil || a == b:
		return true
	case a < b:
		return a <= hour && hour < b
	}
	return hour >= a || hour < b
}

// Told gives whom to tell, empty for nobody: of trouble, or of a change that went well.
// The usual one is told when the decision names nobody else.
func (c Care) Told(trouble bool, usual string) string {
	if !tellsForm.MatchString(c.Tells) || c.Tells == "nobody" {
		return ""
	}
	to, what, named := strings.Cut(c.Tells, ",")
	if !named {
		to, what = usual, c.Tells
	}
	if what = strings.TrimSpace(what); what == "trouble" && !trouble {
		return ""
	}
	return to
}

// hour is an hour as people write it.
func hour(text string) string {
	if n, err := strconv.Atoi(text); err == nil {
		return strconv.Itoa(n)
	}
	return text
}

// Sentence says the decisions, as a site's owner would; whom it tells only where mails can
// be sent. Usual is whom they reach when nobody else is named.
func (c Care) Sentence(mails bool, usual string) string {
	text := map[string]string{"": "takes no release by itself", "nothing": "takes no release by itself",
		"fixes":    "takes fixes by itself",
		"features": "takes fixes and features by itself", "breaking": "takes every release by itself"}[c.Takes]
	if c.TakesLevel("fixes") {
		switch n := c.Days(); n {
		case 0:
			text += " as soon as they are out"
		case 1:
			text += " once they are a day old"
		default:
			text += fmt.Sprintf(" once they are %d days old", n)
		}
		if from, to, found := strings.Cut(c.Hours, "-"); found {
			text += fmt.Sprintf(", from %s to %s o'clock", hour(from), hour(to))
		}
	}
	if !mails {
		return text
	}
	to := c.Told(true, usual)
	switch {
	case to == "":
		return text + "; tells nobody"
	case strings.HasSuffix(c.Tells, "trouble"):
		return text + "; tells " + to + " of trouble"
	case strings.HasSuffix(c.Tells, "changes"):
		return text + "; tells " + to + " of changes and of trouble"
	}
	return text + "; tells " + to + " of everything"
}
