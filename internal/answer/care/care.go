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
	Takes     string `json:"takes"`     // nothing, or releases up to a level: fixes, features, breaking
	Waits     string `json:"waits"`     // how long a release must have been out, in days: 3d; urgent ones are not waited for
	Hours     string `json:"hours"`     // when, in hours of the machine that does it: 02-05, over midnight 22-04; or any
	Rehearses string `json:"rehearses"` // releases from which level are first made on a copy; nothing; "" in older records
	Backups   string `json:"backups"`   // how often and what is kept: daily, 7d,4w,6m; or none; "" in older records
	Tells     string `json:"tells"`     // whom, and of what: ADDRESS, trouble | changes | everything; or nobody
}

// Usual is what is taken when nothing is said.
var Usual = Care{Takes: "fixes", Waits: "3d", Hours: "02-05", Rehearses: "features", Backups: "daily, 7d,4w,6m",
	Tells: "trouble"}

// ofOld is what was entrusted when neither rehearsals nor backups could be: nothing of them.
func ofOld(c Care) Care {
	c.Rehearses, c.Backups = "", ""
	return c
}

// Levels are what Takes can be, the farthest last.
var Levels = []string{"nothing", "fixes", "features", "breaking"}

// Form is what a decision has to look like.
type Form struct {
	Pattern string // a regular expression (RE2) of the whole
	Words   string // the same in words
}

// Forms are those of the decisions, by their names.
var Forms = map[string]Form{
	"takes": {`nothing|fixes|features|breaking`, "one of nothing, fixes, features, breaking"},
	"waits": {`[0-9]{1,2}d`, "a number of days, such as 3d"},
	"hours": {`any|([01][0-9]|2[0-3])-([01][0-9]|2[0-3])`, "two hours with a dash, such as 02-05, or any"},
	"rehearses": {`nothing|fixes|features|breaking`, "the level from which releases are rehearsed: fixes, features, " +
		"breaking; or nothing"},
	"backups": {`none|(hourly|daily|weekly|monthly), ?[1-9][0-9]{0,2}d(, ?[1-9][0-9]{0,2}w)?(, ?[1-9][0-9]{0,2}m)?`,
		"how often, and of how many days, weeks and months one is kept, such as daily, 7d,4w,6m; or none"},
	"tells": {`nobody|([^ ,@]+@[^ ,@]+, ?)?(trouble|changes|everything)`,
		"trouble, changes or everything, or ADDRESS, trouble; or nobody"},
}

// fits says whether a value has the form of a decision.
func fits(name, value string) bool { return forms[name].MatchString(value) }

var forms = map[string]*regexp.Regexp{}

func init() {
	for name, f := range Forms {
		forms[name] = regexp.MustCompile(`^(?:` + f.Pattern + `)$`)
	}
}

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
	*c = ofOld(Usual)
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
var Decisions = []string{"takes", "waits", "hours", "rehearses", "backups", "tells"}

// With decides some of it anew, by the names of the decisions. What will not do is a usage
// fault that says all that is wrong.
func (c Care) With(decided map[string]string) (Care, error) {
	var problems []fault.Problem
	for _, name := range Decisions {
		value, said := decided[name]
		if !said {
			continue
		}
		if !fits(name, value) {
			problems = append(problems, fault.Problem{ID: name, What: fmt.Sprintf("%q will not do", value),
				Remedy: "It is " + Forms[name].Words + "."})
		}
		*c.decision(name) = value
	}
	return c, fault.Join("that cannot be entrusted", "", problems)
}

func (c *Care) decision(name string) *string {
	return map[string]*string{"takes": &c.Takes, "waits": &c.Waits, "hours": &c.Hours, "rehearses": &c.Rehearses,
		"backups": &c.Backups, "tells": &c.Tells}[name]
}

// answer is what the ids of answers about the care begin with.
const answer = "care."

// Of gives what was answered; what was not asked is as usual.
func Of(answers map[string]string) Care {
	c := Usual
	for _, name := range Decisions {
		if value := answers[answer+name]; value != "" {
			*c.decision(name) = value
		}
	}
	return c
}

// Answers are those that lead to the same care.
func (c Care) Answers() map[string]string {
	out := map[string]string{}
	for _, name := range Decisions {
		out[answer+name] = *c.decision(name)
	}
	for name, never := range map[string]string{"rehearses": "nothing", "backups": "none"} {
		if out[answer+name] == "" { // of an older record
			out[answer+name] = never
		}
	}
	return out
}

// Valid says whether every decision has its form; older records lack some.
func (c Care) Valid() bool {
	for _, name := range Decisions {
		if value := *c.decision(name); value != "" && !fits(name, value) {
			return false
		}
	}
	return true
}

// RehearsesLevel says whether a release of a level is made on a copy first.
func (c Care) RehearsesLevel(level string) bool {
	from := slices.Index(Levels, c.Rehearses)
	return from > 0 && slices.Index(Levels, level) >= from
}

// Every is how often a backup is made, and which are kept (7d,4w,6m); 0 for never.
func (c Care) Every() (often time.Duration, kept string) {
	how, kept, _ := strings.Cut(c.Backups, ",")
	return map[string]time.Duration{"hourly": time.Hour, "daily": 24 * time.Hour, "weekly": 7 * 24 * time.Hour,
		"monthly": 30 * 24 * time.Hour}[how], strings.ReplaceAll(kept, " ", "")
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

// What somebody may be told of.
const (
	Trouble = iota
	Change  // an update that went well
	Routine // a backup or a check that went well
)

// Told gives whom to tell of something, empty for nobody. The usual one is told when the
// decision names nobody else.
func (c Care) Told(of int, usual string) string {
	if !fits("tells", c.Tells) || c.Tells == "nobody" {
		return ""
	}
	to, what, named := strings.Cut(c.Tells, ",")
	if !named {
		to, what = usual, c.Tells
	}
	if what = strings.TrimSpace(what); of > map[string]int{"trouble": Trouble, "changes": Change,
		"everything": Routine}[what] {
		return ""
	}
	return to
}

// rehearsed says which of the releases that it takes are made on a copy first.
func (c Care) rehearsed() string {
	switch {
	case c.RehearsesLevel("fixes"):
		return ", each rehearsed on a copy first"
	case c.TakesLevel("features") && c.RehearsesLevel("features"):
		return ", features and farther ones rehearsed on a copy first"
	case c.TakesLevel("breaking") && c.RehearsesLevel("breaking"):
		return ", breaking ones rehearsed on a copy first"
	}
	return ""
}

// backedUp says how often it is backed up and what is kept.
func (c Care) backedUp() string {
	often, kept := c.Every()
	if often == 0 {
		return "; makes no backups by itself"
	}
	how, _, _ := strings.Cut(c.Backups, ",")
	var of []string
	for _, part := range strings.Split(kept, ",") {
		n := strings.TrimRight(part, "dwm")
		unit := map[byte]string{'d': "day", 'w': "week", 'm': "month"}[part[len(part)-1]]
		if n != "1" {
			unit += "s"
		}
		of = append(of, n+" "+unit)
	}
	text := of[0]
	if last := len(of) - 1; last > 0 {
		text = strings.Join(of[:last], ", ") + " and " + of[last]
	}
	return "; makes a backup " + map[string]string{"hourly": "every hour", "daily": "every day", "weekly": "every week",
		"monthly": "every month"}[how] + " and keeps those of " + text
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
		text += c.rehearsed()
	}
	text += c.backedUp()
	if !mails {
		return text
	}
	to := c.Told(Trouble, usual)
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
