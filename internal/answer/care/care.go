// Package care is how a site is looked after: which releases are installed by themselves, when, and
// who is notified of what. It decides nothing else and carries nothing out.
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

// Care is how a site is looked after, in decisions; Sentence says them. A backup before an
// update, and putting back what fails, are none: they always happen.
type Care struct {
	Accepts  string `json:"accepts"`  // nothing, or releases up to a level: fixes, features, breaking
	After    string `json:"after"`    // how long a release must have been out, in days: 3d; urgent ones are not waited for
	Between  string `json:"between"`  // when, in hours of the machine that does it: 02-05, over midnight 22-04; or any
	Rehearse string `json:"rehearse"` // what is first made on a copy: from-fixes, from-features, breaking; nothing; "" in older records
	Backups  string `json:"backups"`  // how often and what is kept: daily, 7d,4w,6m; or none; "" in older records
	Notify   string `json:"notify"`   // whom, and of what: ADDRESS, trouble | changes | everything; or nobody
}

// Usual is what holds when nothing is said.
var Usual = Care{Accepts: "fixes", After: "3d", Between: "02-05", Rehearse: "from-features", Backups: "daily, 7d,4w,6m",
	Notify: "trouble"}

// ofOld is what held when neither rehearsals nor backups could be decided: nothing of them.
func ofOld(c Care) Care {
	c.Rehearse, c.Backups = "", ""
	return c
}

// Levels are what Accepts can be, the farthest last; Rehearsals are what Rehearse can be, in the same order.
var (
	Levels     = []string{"nothing", "fixes", "features", "breaking"}
	Rehearsals = []string{"nothing", "from-fixes", "from-features", "breaking"}
)

// Form is what a decision has to look like.
type Form struct {
	Pattern string // a regular expression (RE2) of the whole
	Words   string // the same in words
}

// Forms are those of the decisions, by their names.
var Forms = map[string]Form{
	"accepts": {`nothing|fixes|features|breaking`, "one of nothing, fixes, features, breaking"},
	"after":   {`[0-9]{1,2}d`, "a number of days, such as 3d"},
	"between": {`any|([01][0-9]|2[0-3])-([01][0-9]|2[0-3])`, "two hours with a dash, such as 02-05, or any"},
	"rehearse": {`nothing|from-fixes|from-features|breaking`, "from-fixes, from-features (features and breaking releases), " +
		"breaking, or nothing"},
	"backups": {`none|(hourly|daily|weekly|monthly), ?[1-9][0-9]{0,2}d(, ?[1-9][0-9]{0,2}w)?(, ?[1-9][0-9]{0,2}m)?`,
		"how often, and of how many days, weeks and months one is kept, such as daily, 7d,4w,6m; or none"},
	"notify": {`nobody|([^ ,@]+@[^ ,@]+, ?)?(trouble|changes|everything)`,
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

// UnmarshalJSON reads a record, older ones too: the first had updates and mails, and the next other names.
func (c *Care) UnmarshalJSON(text []byte) error {
	type plain Care
	var found struct {
		plain
		Takes, Waits, Hours, Rehearses, Tells string
		Updates, Mails                        string
	}
	if err := json.Unmarshal(text, &found); err != nil {
		return err
	}
	switch *c = Care(found.plain); {
	case found.Takes != "":
		*c = Care{Accepts: found.Takes, After: found.Waits, Between: found.Hours, Backups: found.Backups, Notify: found.Tells}
		if n := slices.Index(Levels, found.Rehearses); n >= 0 {
			c.Rehearse = Rehearsals[n]
		}
	case found.Updates != "":
		*c = ofOld(Usual)
		if c.Accepts = map[string]string{"off": "nothing", "all": "breaking"}[found.Updates]; c.Accepts == "" {
			c.Accepts = Usual.Accepts
		}
		c.After = "0d" // nobody waited then
		if to := map[string]string{"off": "nobody", "all": "changes"}[found.Mails]; to != "" {
			c.Notify = to
		}
	}
	return nil
}

// Decisions are the names of what is decided, in the order in which it is said.
var Decisions = []string{"accepts", "after", "between", "rehearse", "backups", "notify"}

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
	return c, fault.Join("a site cannot be looked after so", "", problems)
}

func (c *Care) decision(name string) *string {
	return map[string]*string{"accepts": &c.Accepts, "after": &c.After, "between": &c.Between, "rehearse": &c.Rehearse,
		"backups": &c.Backups, "notify": &c.Notify}[name]
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
	for name, never := range map[string]string{"rehearse": "nothing", "backups": "none"} {
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
	from := slices.Index(Rehearsals, c.Rehearse)
	return from > 0 && slices.Index(Levels, level) >= from
}

// Every is how often a backup is made, and which are kept (7d,4w,6m); 0 for never.
func (c Care) Every() (often time.Duration, kept string) {
	how, kept, _ := strings.Cut(c.Backups, ",")
	return map[string]time.Duration{"hourly": time.Hour, "daily": 24 * time.Hour, "weekly": 7 * 24 * time.Hour,
		"monthly": 30 * 24 * time.Hour}[how], strings.ReplaceAll(kept, " ", "")
}

// AcceptsLevel says whether a release of a level is installed by itself.
func (c Care) AcceptsLevel(level string) bool {
	return slices.Index(Levels, level) <= max(0, slices.Index(Levels, c.Accepts))
}

// Waited says whether a release that came out on a day (YYYY-MM-DD) has been out for long
// enough. One whose day is not known has.
func (c Care) Waited(out string, now time.Time) bool {
	day, err := time.Parse(time.DateOnly, out)
	return err != nil || !now.Before(day.AddDate(0, 0, c.Days()))
}

// Days is for how many days a release must have been out.
func (c Care) Days() int {
	n, err := strconv.Atoi(strings.TrimSuffix(c.After, "d"))
	if err != nil {
		return 0
	}
	return n
}

// Now says whether it is the hour for it. Hours are those that a clock on the wall shows,
// also on days on which it is set.
func (c Care) Now(now time.Time) bool {
	from, to, found := strings.Cut(c.Between, "-")
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
	if !fits("notify", c.Notify) || c.Notify == "nobody" {
		return ""
	}
	to, what, named := strings.Cut(c.Notify, ",")
	if !named {
		to, what = usual, c.Notify
	}
	if !Concerns(strings.TrimSpace(what), of) {
		return ""
	}
	return to
}

// Reaches are how much somebody is told of, the least first.
var Reaches = []string{"trouble", "changes", "everything"}

// Concerns says whether who is told of one of Reaches is told of something.
func Concerns(reach string, of int) bool { return of <= max(Trouble, slices.Index(Reaches, reach)) }

// Address is who is named to be told; "" where it is the site's admin, or nobody.
func (c Care) Address() string {
	to, _, named := strings.Cut(c.Notify, ",")
	if !named || !fits("notify", c.Notify) {
		return ""
	}
	return to
}

// rehearsed says which of the releases that are installed are made on a copy first.
func (c Care) rehearsed() string {
	switch {
	case c.RehearsesLevel("fixes"):
		return ", each rehearsed on a copy first"
	case c.AcceptsLevel("features") && c.RehearsesLevel("features"):
		return ", features and breaking releases rehearsed on a copy first"
	case c.AcceptsLevel("breaking") && c.RehearsesLevel("breaking"):
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
	text := map[string]string{"": "installs no release by itself", "nothing": "installs no release by itself",
		"fixes": "installs fixes", "features": "installs fixes and features", "breaking": "installs every release"}[c.Accepts]
	if c.AcceptsLevel("fixes") {
		be := map[bool]string{true: "it is", false: "they are"}[c.Accepts == "breaking"]
		switch n := c.Days(); n {
		case 0:
			text += " as soon as " + be + " out"
		case 1:
			text += " once " + be + " a day old"
		default:
			text += fmt.Sprintf(" once %s %d days old", be, n)
		}
		if from, to, found := strings.Cut(c.Between, "-"); found {
			text += fmt.Sprintf(", between %s and %s o'clock", hour(from), hour(to))
		}
		text += c.rehearsed()
	}
	text += c.backedUp()
	to := c.Told(Trouble, usual)
	if !mails && to != "" {
		return text + "; can notify nobody: the account has no mail server"
	}
	switch {
	case to == "":
		return text + "; notifies nobody"
	case strings.HasSuffix(c.Notify, "trouble"):
		return text + "; notifies " + to + " of trouble"
	case strings.HasSuffix(c.Notify, "changes"):
		return text + "; notifies " + to + " of changes and of trouble"
	}
	return text + "; notifies " + to + " of everything"
}
