package step

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/ssh"
)

// SetTimers writes what the site needs run into the account's crontab.
type SetTimers struct {
	*Tools  `json:"-"`
	Address string `json:"address"`
	Folder  string `json:"folder"` // for the addresses to fetch, which hold keys

	lines   []string
	fetches map[string]string // file to content
}

// TimersOf sets up the timers of the job's site; nil where there are none, or
// the account has no crontab.
func TimersOf(t *Tools) (*SetTimers, error) {
	timers := t.Site.Timers()
	if len(timers) == 0 {
		return nil, nil
	}
	values, err := t.Site.Values(t.Now())
	if err != nil {
		return nil, err
	}
	s := &SetTimers{Tools: t, Address: t.Site.Address(), Folder: t.Store().TimersOf(t.Job), fetches: map[string]string{}}
	for i, timer := range timers {
		command, err := s.command(i, timer, values)
		if err != nil {
			return nil, err
		}
		s.lines = append(s.lines, hosting.TimerLine(timer.Every, s.Address, command))
	}
	return s, nil
}

// command is what a timer runs. Addresses with keys stand in a file that only
// the account's user reads, not where others see the words of programs.
func (t *SetTimers) command(n int, timer kit.Timer, values fill.Values) (string, error) {
	top := t.In.ServerTop()
	if timer.Get != "" {
		page, err := fill.Text(timer.Get, values)
		if err != nil {
			return "", err
		}
		name := fmt.Sprintf("%d.curl", n)
		address := strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(t.Site.Place.URL + page)
		t.fetches[name] = "# Tivset: what a timer fetches\nurl = \"" + address + "\"\n"
		return "curl -fsS -m 300 -o /dev/null -K " + ssh.Quote([]string{path.Join(top, t.Folder, name)}), nil
	}
	words := []string{t.In.Runtime.PHP}
	for _, w := range timer.Command[1:] {
		filled, err := fill.Text(w, values)
		if err != nil {
			return "", err
		}
		words = append(words, filled)
	}
	return "cd " + ssh.Quote([]string{path.Join(top, t.Site.Place.Folder)}) + " && " + ssh.Quote(words) + " >/dev/null",
		nil
}

// Kind and Title implement job.Step.
func (*SetTimers) Kind() string  { return "set-timers" }
func (*SetTimers) Title() string { return "Set up timers" }

// Do writes the addresses, then the crontab.
func (t *SetTimers) Do(ctx context.Context) error {
	if len(t.fetches) > 0 {
		if _, err := files.MkdirAll(ctx, t.In.Files, t.Folder, 0o700); err != nil {
			return err
		}
	}
	for name, text := range t.fetches {
		if err := files.Write(ctx, t.In.Files, path.Join(t.Folder, name), []byte(text), 0o600); err != nil {
			return err
		}
	}
	return t.In.EditCrontab(ctx, func(crontab string) string { return hosting.WithTimers(crontab, t.Address, t.lines) })
}

// Undo takes the site's lines out. An account without a crontab any more has
// none of ours.
func (t *SetTimers) Undo(ctx context.Context) error {
	err := t.In.EditCrontab(ctx, func(crontab string) string { return hosting.WithoutTimers(crontab, t.Address) })
	return errors.Join(err, files.RemoveAll(ctx, t.In.Files, t.Folder),
		files.DropEmpty(ctx, t.In.Files, path.Dir(t.Folder), path.Dir(path.Dir(t.Folder))))
}
