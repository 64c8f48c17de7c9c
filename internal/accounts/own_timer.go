package accounts

import (
	"context"
	"errors"
	"io/fs"
	"runtime"
	"slices"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/ssh"
)

// earlierTimer is what the lines of this program in this machine's crontab were marked with
// at first; they go with the first change.
const earlierTimer = "updates that are due"

// Timer is how often this machine makes rounds, and by which call.
type Timer struct {
	Every   string // an interval such as 1h or 30m
	Program string // whole path of this program
	Home    string // TIVSET_HOME as a whole path, "" for the usual one
	Queue   bool   // they are put on a team's queue
	// variables besides that say where Tivset's files are, NAME=VALUE: cron has none of a
	// shell's own
	Env []string
}

// mark is what the line is marked with: each home has its own rounds.
func (t Timer) mark() string { return strings.TrimSpace("maintain " + t.Home) }

// words are the call.
func (t Timer) words() []string {
	words := []string{t.Program, "maintain", "--quiet"}
	if t.Queue {
		words = append(words, "--queue")
	}
	return words
}

func (t Timer) line() string {
	line := ssh.Quote(t.words())
	env := t.Env
	if t.Home != "" {
		env = append([]string{"TIVSET_HOME=" + t.Home}, env...)
	}
	for _, variable := range slices.Backward(env) {
		name, value, _ := strings.Cut(variable, "=")
		line = name + "=" + ssh.Quote([]string{value}) + " " + line
	}
	return hosting.TimerLine(t.Every, t.Home+t.Program, line)
}

// What runs maintenance on a machine.
const (
	ByCrontab = "this machine's crontab"
	BySystemd = "a timer of systemd"
)

// SetRounds has this machine run maintenance every so often, or no more: by its crontab, or where it has none by
// the user's own systemd. By says which.
func (k *Keeper) SetRounds(ctx context.Context, t Timer, on bool) (by string, err error) {
	if _, err := k.ownCrontab(ctx); err != nil {
		if k.Systemd.there(ctx) != nil {
			return "", err
		}
		return BySystemd, k.Systemd.set(ctx, t, on)
	}
	// Only one of the two: a timer may be there from a time without a crontab.
	if had, err := k.Systemd.line(t); err == nil && had != "" && k.Systemd.there(ctx) == nil {
		if err := k.Systemd.set(ctx, t, false); err != nil {
			return BySystemd, err
		}
	}
	return ByCrontab, k.setCrontab(ctx, t, on)
}

func (k *Keeper) setCrontab(ctx context.Context, t Timer, on bool) error {
	before, err := k.ownCrontab(ctx)
	if err != nil {
		return err
	}
	after := before
	for _, mark := range []string{earlierTimer, strings.TrimSpace("rounds " + t.Home), t.mark()} {
		after = hosting.WithoutTimers(after, mark)
	}
	if on {
		after = hosting.WithTimers(after, t.mark(), []string{t.line()})
	}
	switch {
	case after == before:
		return nil
	case after == "":
		_, err = k.Crontab(ctx, "", "-r")
	default:
		_, err = k.Crontab(ctx, after, "-")
	}
	if err != nil {
		return noCrontab(err)
	}
	return nil
}

// RoundsLine is what runs maintenance on this machine, as it is written there, and what that is; "" for none.
func (k *Keeper) RoundsLine(ctx context.Context, t Timer) (line, by string, err error) {
	if line, err = k.Systemd.line(t); err == nil && line != "" {
		return line, BySystemd, nil
	}
	text, err := k.ownCrontab(ctx)
	if err != nil && k.Systemd.there(ctx) == nil {
		return "", "", nil // its timers are looked at, and there is none
	}
	_, rest, found := strings.Cut(text, hosting.BeginMark(t.mark())+"\n")
	if err != nil || !found {
		return "", "", err
	}
	lines := hosting.TimersIn(rest)
	if len(lines) == 0 {
		return "", "", nil
	}
	return lines[0], ByCrontab, nil
}

// ownCrontab reads this machine's; one that is not there is empty.
func (k *Keeper) ownCrontab(ctx context.Context) (string, error) {
	if k.Crontab == nil {
		return "", noCrontab(errors.ErrUnsupported)
	}
	out, err := k.Crontab(ctx, "", "-l")
	if err != nil && strings.Contains(strings.ToLower(err.Error()+string(out)), "no crontab") {
		return "", nil
	}
	if err != nil {
		return "", noCrontab(err)
	}
	return string(out), nil
}

// noCrontab says what to do where there is none to change.
func noCrontab(err error) error {
	scheduler := map[string]string{"darwin": "launchd", "windows": "the Task Scheduler"}[runtime.GOOS]
	if scheduler == "" {
		scheduler = "your own scheduler"
	}
	remedy := "Have " + scheduler + " run every hour: " + fault.Call("maintain", "--quiet")
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, errors.ErrUnsupported) {
		return fault.New(fault.Failed, "this machine has no crontab", "", remedy)
	}
	return fault.New(fault.Failed, "this machine's crontab cannot be read or changed", "crontab", remedy).Wrap(err)
}
