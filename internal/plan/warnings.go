package plan

import (
	"context"
	"fmt"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/fault"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// warnings gathers what the owner should know before saying yes, of the place,
// the reach and the answers.
func (pl *Planner) warnings(ctx context.Context, d *decided, s *site.Site) ([]string, error) {
	out, err := pl.traps(ctx, s.In, s.At)
	if err != nil {
		return nil, err
	}
	if !s.In.Line().Encrypted {
		out = append(out, "this account is reached over plain FTP: everybody on the way can read the password and all "+
			"that is sent. Ask the host for SFTP, or try ftps:// in reach:")
	}
	for _, e := range s.Kit.Extras {
		if v := s.Answers[e.Answer()]; e.Warning != "" && v != "no" && v != answer.None {
			out = append(out, e.Warning)
		}
	}
	if s.Answers["admin.name-risk"] == "accept" {
		if why := secret.Guessable(s.Admin.Name, d.asking.Seen()...); why != "" {
			out = append(out, "the admin's sign-in name: "+why)
		}
	}
	return out, nil
}

// timers lists the timers that are set up, and says of others what is left to
// do. Keys in their addresses are not shown.
func (pl *Planner) timers(s *site.Site) (set, todo []string, err error) {
	values, err := s.Values(pl.Now())
	if err != nil {
		return nil, nil, err
	}
	for name := range s.Secrets {
		values[name] = "KEY"
	}
	for _, t := range s.Kit.Timers {
		every := site.Interval(t.Every)
		switch {
		case !s.Holds(t.When):
			continue
		case s.In.Runtime.Crontab != "" && (t.Get != "" || s.In.Runtime.PHP != ""):
			set = append(set, fmt.Sprintf("every %s: %s", every, t.What))
			continue
		case t.Get == "":
			todo = append(todo, fmt.Sprintf("have the hosting run php %s in %s every %s: it %s",
				strings.Join(t.Command[1:], " "), s.Place.Folder, every, t.What))
			continue
		}
		page, err := fill.Text(t.Get, values)
		if err != nil {
			return nil, nil, err
		}
		left := fmt.Sprintf("have the hosting fetch %s%s every %s: it %s", s.Place.URL, page, every, t.What)
		if strings.Contains(page, "KEY") {
			left += " (with its key: " + fault.Call("reveal", s.Address()) + ")"
		}
		todo = append(todo, left)
	}
	return set, todo, nil
}
