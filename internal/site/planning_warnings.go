package site

import (
	"context"
	"fmt"
	"strings"
	"time"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/secret"
)

// warn gathers what the owner should know before saying yes, and what is left
// to do afterwards.
func (s *Service) warn(ctx context.Context, p *Plan) error {
	traps, err := s.traps(ctx, p)
	if err != nil {
		return err
	}
	p.Warnings = append(p.Warnings, traps...)
	if to := p.account.Remote(); to != nil && to.Scheme == account.FTP {
		p.Warnings = append(p.Warnings, "this account is reached over plain FTP: everybody on the way can read the password and all that is sent. Ask the host for SFTP, or try ftps:// in reach:")
	}
	for _, e := range p.kit.Extras {
		if v := p.answers[e.Answer()]; e.Warning != "" && v != "no" && v != answer.None {
			p.Warnings = append(p.Warnings, e.Warning)
		}
	}
	if p.answers["admin.name-risk"] == "accept" {
		if why := secret.Guessable(p.Admin.Name, p.asking.seen()...); why != "" {
			p.Warnings = append(p.Warnings, "the admin's sign-in name: "+why)
		}
	}
	return p.timers(s.Now())
}

// timers adds to what is left to do. Keys in their addresses are not shown.
func (p *Plan) timers(now time.Time) error {
	values, err := p.values(now)
	if err != nil {
		return err
	}
	for name := range p.secrets {
		values[name] = "KEY"
	}
	for _, t := range p.kit.Timers {
		if !holds(t.When, p.answers) {
			continue
		}
		if p.account.Runtime.Crontab != "" && (t.Get != "" || p.account.Runtime.PHP != "") {
			p.Changes.Timers = append(p.Changes.Timers, fmt.Sprintf("every %s: %s", interval(t.Every), t.What))
			continue
		}
		if t.Get == "" {
			p.Todo = append(p.Todo, fmt.Sprintf("have the hosting run php %s in %s every %s: it %s", strings.Join(t.Command[1:], " "), p.Place.Folder, interval(t.Every), t.What))
			continue
		}
		page, err := fill.Text(t.Get, values)
		if err != nil {
			return err
		}
		todo := fmt.Sprintf("have the hosting fetch %s%s every %s: it %s", p.Place.URL, page, interval(t.Every), t.What)
		if strings.Contains(page, "KEY") {
			todo += " (with its key: tivset reveal " + p.place.Address() + ")"
		}
		p.Todo = append(p.Todo, todo)
	}
	return nil
}

// interval words 5m as 5 minutes.
func interval(every string) string {
	unit := map[byte]string{'m': "minute", 'h': "hour"}[every[len(every)-1]]
	if n := every[:len(every)-1]; n != "1" {
		return n + " " + unit + "s"
	}
	return unit
}

// holds says whether a step or a timer of the kit applies.
func holds(condition string, given answer.Given) bool {
	c, err := answer.ParseCondition(condition)
	return err == nil && c.Holds(given)
}

// takesMail asks the name servers about the admin's address, when that was
// asked for.
func (s *Service) takesMail(ctx context.Context, p *Plan) error {
	if p.answers["admin.email-check"] != "yes" {
		return nil
	}
	_, domain, _ := strings.Cut(p.Admin.Email, "@")
	if err := s.TakesMail(ctx, domain); err != nil {
		return fault.New(fault.Usage, "no mail can be sent to "+domain, "admin.email", "Check the address; to go on without asking: -a admin.email-check=no").Because(err)
	}
	return nil
}
