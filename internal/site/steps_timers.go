package site

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/ssh"
)

// setTimers writes what the site needs run into the account's crontab.
type setTimers struct {
	*env    `json:"-"`
	Address string `json:"address"`
	Folder  string `json:"folder"` // for the addresses to fetch, which hold keys

	lines   []string
	fetches map[string]string // file to content
}

func (*setTimers) Kind() string  { return "set-timers" }
func (*setTimers) Title() string { return "Set up timers" }

func (t *setTimers) Do(ctx context.Context) error {
	if len(t.fetches) > 0 {
		if _, err := files.MkdirAll(ctx, t.files, t.Folder, 0o700); err != nil {
			return err
		}
	}
	for name, text := range t.fetches {
		if err := files.Write(ctx, t.files, path.Join(t.Folder, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	return t.edit(ctx, func(crontab string) string { return withTimers(crontab, t.Address, t.lines) })
}

// Undo takes the site's lines out. An account without a crontab any more has
// none of ours.
func (t *setTimers) Undo(ctx context.Context) error {
	err := t.edit(ctx, func(crontab string) string { return withoutTimers(crontab, t.Address) })
	return errors.Join(err, files.RemoveAll(ctx, t.files, t.Folder), dropEmpty(ctx, t.files, path.Dir(t.Folder), path.Dir(path.Dir(t.Folder))))
}

// edit changes the crontab of the account's user.
func (e *env) edit(ctx context.Context, change func(string) string) error {
	program := e.account.Runtime.Crontab
	commander, ok := e.files.(files.Commander)
	if !ok || program == "" {
		return fault.New(fault.Failed, "the account's crontab cannot be reached", e.account.Name, "Reach the account over SSH with a shell, or leave runtime: crontab: out.")
	}
	before, err := readCrontab(ctx, commander, program)
	if err != nil {
		return err
	}
	after := change(before)
	switch {
	case after == before:
		return nil
	case after == "":
		_, err = commander.Command(ctx, ".", []string{program, "-r"}, "")
	default:
		_, err = commander.Command(ctx, ".", []string{program, "-"}, after)
	}
	if err != nil {
		return fault.New(fault.Failed, "the account's crontab cannot be written", e.account.Name, "Ask the host whether this account may use cron; without it, leave runtime: crontab: out.").Because(err)
	}
	return nil
}

// readCrontab gives the crontab; one that is not there is empty.
func readCrontab(ctx context.Context, c files.Commander, program string) (string, error) {
	out, err := c.Command(ctx, ".", []string{program, "-l"}, "")
	if err != nil && strings.Contains(strings.ToLower(err.Error()), "no crontab") {
		return "", nil
	}
	if err != nil {
		return "", fault.New(fault.Failed, "the account's crontab cannot be read", program, "Correct runtime: crontab: in the account, or leave it out.").Because(err)
	}
	return string(out), nil
}

// timersStep makes the step, or nil where the account has no crontab or the app
// no timers.
func (e *env) timersStep() (*setTimers, error) {
	p := e.plan
	if len(p.Changes.Timers) == 0 {
		return nil, nil
	}
	values, err := p.values(e.Now())
	if err != nil {
		return nil, err
	}
	t := &setTimers{env: e, Address: p.place.Address(), Folder: path.Join(e.account.Store, "timers", e.job), fetches: map[string]string{}}
	for i, timer := range p.kit.Timers {
		if !holds(timer.When, p.answers) {
			continue
		}
		line, err := t.line(i, timer, values)
		if err != nil {
			return nil, err
		}
		t.lines = append(t.lines, schedule(timer.Every, t.Address)+" "+strings.ReplaceAll(line, "%", `\%`)) // crontab(5): % ends the command
	}
	return t, nil
}

// line is the command of a timer. Addresses with keys stand in a file that only
// the account's user reads, not where others see the words of programs.
func (t *setTimers) line(n int, timer kit.Timer, values fill.Values) (string, error) {
	top := t.account.ServerTop()
	if timer.Get != "" {
		page, err := fill.Text(timer.Get, values)
		if err != nil {
			return "", err
		}
		name := fmt.Sprintf("%d.curl", n)
		t.fetches[name] = "# Tivset: what a timer fetches\nurl = \"" + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(t.plan.Place.URL+page) + "\"\n"
		return "curl -fsS -m 300 -o /dev/null -K " + ssh.Quote([]string{path.Join(top, t.Folder, name)}), nil
	}
	words := []string{t.account.Runtime.PHP}
	for _, w := range timer.Command[1:] {
		filled, err := fill.Text(w, values)
		if err != nil {
			return "", err
		}
		words = append(words, filled)
	}
	return "cd " + ssh.Quote([]string{path.Join(top, t.plan.Place.Folder)}) + " && " + ssh.Quote(words) + " >/dev/null", nil
}
