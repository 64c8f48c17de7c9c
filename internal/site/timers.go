package site

import (
	"fmt"
	"strings"
	"time"

	"tivset/internal/app/fill"
	"tivset/internal/fault"
)

// TimersLeft words the app's timers: those that are set in the account's crontab, and
// what is left for the owner to have set up.
func (s *Site) TimersLeft(now time.Time) (set, todo []string, err error) {
	values, err := s.Values(now)
	if err != nil {
		return nil, nil, err
	}
	for name := range s.Secrets {
		values[name] = "KEY"
	}
	for _, t := range s.Kit.Timers {
		every := Interval(t.Every)
		switch {
		case !s.Holds(t.When):
			continue
		case s.In.Runtime.Crontab != "" && (t.Get != "" || s.In.Runtime.PHP != ""):
			set = append(set, fmt.Sprintf("every %s: %s", every, t.What))
			continue
		case t.Get == "":
			todo = append(todo, fmt.Sprintf("have the host run php %s in %s every %s: it %s",
				strings.Join(t.Command[1:], " "), s.Place.Folder, every, t.What))
			continue
		}
		page, err := fill.Text(t.Get, values)
		if err != nil {
			return nil, nil, err
		}
		left := fmt.Sprintf("have the host fetch %s%s every %s: it %s", s.Place.URL, page, every, t.What)
		if strings.Contains(page, "KEY") {
			left += " (with its key: " + fault.Call("reveal", s.Address()) + ")"
		}
		todo = append(todo, left)
	}
	return set, todo, nil
}
