package accounts

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// Systemd has the user's own systemd run maintenance, by a timer (systemd.timer(5)). A run that was missed while
// the machine slept is made up for when it wakes (Persistent=).
type Systemd struct {
	Units string // the folder of the user's own units

	// Systemctl runs systemctl(1); its error holds what it said, fs.ErrNotExist where there is none.
	Systemctl func(ctx context.Context, args ...string) ([]byte, error)
}

// unit is the name of the timer and of what it starts: each home has its own.
func (s Systemd) unit(t Timer) string {
	if t.Home == "" {
		return "tivset-maintain"
	}
	sum := sha256.Sum256([]byte(t.Home))
	return "tivset-maintain-" + hex.EncodeToString(sum[:4])
}

// calendar is how often, as systemd.time(7) writes it.
func calendar(every string) string {
	n, minutes := strings.CutSuffix(every, "m")
	if minutes {
		return "*:0/" + n
	}
	n = strings.TrimSuffix(every, "h")
	return "0/" + n + ":00"
}

// quoted is a word of a unit's file (systemd.service(5), “Command lines”): nothing in it is replaced.
func quoted(word string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", "$$", "%", "%%").Replace(word) + `"`
}

func (s Systemd) files(t Timer) map[string]string {
	var service strings.Builder
	service.WriteString("[Unit]\nDescription=Updates, backups and checks of sites that are due\n\n[Service]\n" +
		"Type=oneshot\n")
	env := t.Env
	if t.Home != "" {
		env = append([]string{"TIVSET_HOME=" + t.Home}, env...)
	}
	for _, variable := range env {
		service.WriteString("Environment=" + strings.ReplaceAll(quoted(variable), "$$", "$") + "\n") // not expanded there
	}
	words := t.words()
	for i := range words {
		words[i] = quoted(words[i])
	}
	service.WriteString("ExecStart=" + strings.Join(words, " ") + "\n")
	timer := "[Unit]\nDescription=Maintenance of sites\n\n[Timer]\nOnCalendar=" + calendar(t.Every) +
		"\nPersistent=true\nRandomizedDelaySec=300\n\n[Install]\nWantedBy=timers.target\n"
	return map[string]string{s.unit(t) + ".service": service.String(), s.unit(t) + ".timer": timer}
}

// there says whether the user has a systemd that answers.
func (s Systemd) there(ctx context.Context) error {
	if s.Systemctl == nil || s.Units == "" {
		return fs.ErrNotExist
	}
	_, err := s.Systemctl(ctx, "--user", "show-environment")
	return err
}

// line is when the timer starts, "" where there is none.
func (s Systemd) line(t Timer) (string, error) {
	if s.Units == "" {
		return "", nil
	}
	name := s.unit(t) + ".timer"
	text, err := os.ReadFile(filepath.Join(s.Units, name))
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	for l := range strings.Lines(string(text)) {
		if at, is := strings.CutPrefix(strings.TrimSpace(l), "OnCalendar="); is {
			return name + ": " + at, nil
		}
	}
	return name, nil
}

// set has it run maintenance, or no more. What fails half way is as it was.
func (s Systemd) set(ctx context.Context, t Timer, on bool) error {
	timer := s.unit(t) + ".timer"
	if !on {
		if had, err := s.line(t); had == "" || err != nil {
			return err
		}
		_, stopErr := s.Systemctl(ctx, "--user", "disable", "--now", timer)
		if err := errors.Join(stopErr, s.drop(ctx, t)); err != nil {
			return noSystemd(err)
		}
		return nil
	}
	if err := os.MkdirAll(s.Units, 0o755); err != nil {
		return noSystemd(err)
	}
	for name, text := range s.files(t) {
		if err := atomicfile.Write(filepath.Join(s.Units, name), []byte(text), 0o644); err != nil {
			return noSystemd(errors.Join(err, s.drop(ctx, t)))
		}
	}
	_, err := s.Systemctl(ctx, "--user", "daemon-reload")
	if err == nil {
		_, err = s.Systemctl(ctx, "--user", "enable", "--now", timer)
	}
	if err != nil {
		return noSystemd(errors.Join(err, s.drop(ctx, t)))
	}
	return nil
}

// drop takes the units away.
func (s Systemd) drop(ctx context.Context, t Timer) (err error) {
	for name := range s.files(t) {
		if gone := os.Remove(filepath.Join(s.Units, name)); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
			err = errors.Join(err, gone)
		}
	}
	_, reload := s.Systemctl(ctx, "--user", "daemon-reload")
	return errors.Join(err, reload)
}

func noSystemd(err error) error {
	return fault.New(fault.Failed, "the timer of systemd cannot be set", "",
		"Have your own scheduler run every hour: "+fault.Call("maintain", "--quiet")).Wrap(err)
}
