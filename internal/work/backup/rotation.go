package backup

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"tivset/internal/fault"
)

// Rotation says which backups are kept: the newest of each of the last days,
// weeks and months that have one.
type Rotation struct{ Days, Weeks, Months int }

var rotated = regexp.MustCompile(`^([1-9][0-9]{0,3})([dwm])$`)

// ParseRotation reads a text such as 7d,4w,6m.
func ParseRotation(text string) (Rotation, error) {
	var r Rotation
	for _, part := range strings.Split(text, ",") {
		m := rotated.FindStringSubmatch(strings.TrimSpace(part))
		if m == nil {
			return r, fault.New(fault.Usage, fmt.Sprintf("%q does not say how many backups to keep", text), "--keep",
				"Write days, weeks and months, such as 7d,4w,6m.")
		}
		n, _ := strconv.Atoi(m[1])
		*map[string]*int{"d": &r.Days, "w": &r.Weeks, "m": &r.Months}[m[2]] += n
	}
	return r, nil
}

// Outdated gives those of some moments, newest first, that are not kept. The
// newest always is.
func (r Rotation) Outdated(newestFirst []time.Time) []time.Time {
	keep := map[time.Time]bool{}
	for _, rule := range []struct {
		most int
		of   func(time.Time) string
	}{
		{r.Days, func(t time.Time) string { return t.Format(time.DateOnly) }},
		{r.Weeks, func(t time.Time) string { year, week := t.ISOWeek(); return fmt.Sprint(year, week) }},
		{r.Months, func(t time.Time) string { return t.Format("2006-01") }},
	} {
		seen := map[string]bool{}
		for _, t := range newestFirst {
			if of := rule.of(t.UTC()); !seen[of] && len(seen) < rule.most {
				seen[of], keep[t] = true, true
			}
		}
	}
	var out []time.Time
	for i, t := range newestFirst {
		if i > 0 && !keep[t] {
			out = append(out, t)
		}
	}
	return out
}
