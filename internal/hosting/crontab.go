package hosting

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"path"
	"strconv"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/files"
)

// A crontab is edited between two lines of ours a site (crontab(5)); all else
// in it stays as it is.

// anyBegin is what the first line of every block of ours begins with.
const anyBegin = "# begin tivset "

// BeginMark is the line before a site's own.
func BeginMark(address string) string {
	return anyBegin + address + " (goes with the site; change it there, not here)"
}

func endMark(address string) string { return "# end tivset " + address }

// WithTimers adds a site's lines to a crontab, in place of those it had.
func WithTimers(crontab, address string, lines []string) string {
	rest := WithoutTimers(crontab, address)
	if rest != "" && !strings.HasSuffix(rest, "\n") {
		rest += "\n"
	}
	return rest + BeginMark(address) + "\n" + strings.Join(lines, "\n") + "\n" + endMark(address) + "\n"
}

// WithoutTimers takes a site's lines out. A block is ours from its first line to
// the nearest end, if no other block begins before that; where somebody took the
// end away, nothing tells our lines from the owner's, and all of them stay.
func WithoutTimers(crontab, address string) string {
	var out, block strings.Builder // block: what is ours if its end comes
	ours := false
	for line := range strings.Lines(crontab) {
		text := strings.TrimRight(line, "\r\n")
		if ours && text == endMark(address) {
			ours = false
			block.Reset()
			continue
		}
		if strings.HasPrefix(text, anyBegin) {
			out.WriteString(block.String())
			block.Reset()
			ours = text == BeginMark(address)
		}
		if ours {
			block.WriteString(line)
		} else {
			out.WriteString(line)
		}
	}
	return out.String() + block.String()
}

// TimersIn lists the lines of a crontab that run something (crontab(5)).
func TimersIn(crontab string) (out []string) {
	for line := range strings.Lines(crontab) {
		line = strings.TrimSpace(line)
		name, _, assigns := strings.Cut(line, "=")
		if line == "" || line[0] == '#' || assigns && !strings.ContainsAny(strings.TrimSpace(name), " \t*") {
			continue
		}
		out = append(out, line)
	}
	return out
}

// Schedule writes an interval such as 5m or 2h as crontab's five fields. Sites
// get different minutes of the hour, so that not all of them work at once.
func Schedule(every, address string) string {
	n, _ := strconv.Atoi(every[:len(every)-1])
	sum := fnv.New32()
	_, _ = sum.Write([]byte(address))
	minute := sum.Sum32() % 60
	switch {
	case strings.HasSuffix(every, "m") && n < 60:
		return fmt.Sprintf("*/%d * * * *", n)
	case strings.HasSuffix(every, "m"):
		n = (n + 59) / 60
	}
	if n < 24 {
		return fmt.Sprintf("%d */%d * * *", minute, n)
	}
	return fmt.Sprintf("%d 3 */%d * *", minute, (n+23)/24)
}

// TimerLine is a line of a crontab that runs a command every so often.
func TimerLine(every, address, command string) string {
	return Schedule(every, address) + " " + strings.ReplaceAll(command, "%", `\%`) // crontab(5): % ends the command
}

// HasCrontab says whether the account's timers can be set up for its owner.
func (a *Account) HasCrontab() bool { return a.Runtime.Crontab != "" }

// Crontab reads the crontab of the account's user; one that is not there is
// empty.
func (a *Account) Crontab(ctx context.Context) (string, error) {
	commander, err := a.crontabCommander()
	if err != nil {
		return "", err
	}
	out, err := commander.Command(ctx, ".", []string{a.Runtime.Crontab, "-l"}, "")
	if err != nil && strings.Contains(strings.ToLower(err.Error()), "no crontab") {
		return "", nil
	}
	if err != nil {
		return "", fault.New(fault.Failed, "the account's crontab cannot be read", a.Runtime.Crontab,
			"Correct runtime: crontab: in the account, or leave it out.").Wrap(err)
	}
	return string(out), nil
}

// EditCrontab changes the crontab of the account's user. Programs that do so at
// once wait for one another, by a file in the account's store; and what somebody
// else has written meanwhile is changed anew.
func (a *Account) EditCrontab(ctx context.Context, change func(string) string) error {
	commander, err := a.crontabCommander()
	if err != nil {
		return err
	}
	done, err := a.crontabLock(ctx)
	if err != nil {
		return err
	}
	defer done()
	for range crontabTries {
		before, err := a.Crontab(ctx)
		if err != nil {
			return err
		}
		after := change(before)
		switch {
		case after == before:
			return nil
		case after == "":
			_, err = commander.Command(ctx, ".", []string{a.Runtime.Crontab, "-r"}, "")
		default:
			_, err = commander.Command(ctx, ".", []string{a.Runtime.Crontab, "-"}, after)
		}
		if err != nil {
			return fault.New(fault.Failed, "the account's crontab cannot be written", a.Name,
				"Ask the host whether this account may use cron; without it, leave runtime: crontab: out.").Wrap(err)
		}
	}
	return fault.New(fault.Failed, "somebody else changes the account's crontab all the while", a.Name,
		"See who does, with crontab -l, and try again.")
}

// How often a crontab is written that others write too, and for how long one
// waits for another program: a lock that one program holds for longer was left
// behind.
const (
	crontabTries = 5
	crontabWait  = 6 * time.Second
)

// crontabLock waits until no other program of ours edits the crontab.
func (a *Account) crontabLock(ctx context.Context) (done func(), err error) {
	name := path.Join(a.Store().Busy(), "crontab")
	if _, err := files.MkdirAll(ctx, a.Files, path.Dir(name), 0o700); err != nil {
		return nil, err
	}
	token, err := a.opener.Maker.Token(16)
	if err != nil {
		return nil, err
	}
	held := ""
	for end := time.Now().Add(crontabWait); ; {
		err := files.Write(ctx, a.Files, name, []byte(token), 0o600)
		if err == nil {
			break
		}
		if !errors.Is(err, fs.ErrExist) && !errors.Is(err, fs.ErrNotExist) {
			return nil, err
		}
		by, errRead := files.Read(ctx, a.Files, name, mostOfMark)
		if errRead != nil && !errors.Is(errRead, fs.ErrNotExist) {
			return nil, errRead
		}
		if string(by) != held { // another's turn
			held, end = string(by), time.Now().Add(crontabWait)
		}
		if time.Now().After(end) { // whoever held it is gone
			_ = files.Drop(ctx, a.Files, name)
		}
		if _, err := files.MkdirAll(ctx, a.Files, path.Dir(name), 0o700); err != nil { // another's end took it away
			return nil, err
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return func() {
		ctx := context.WithoutCancel(ctx)
		_ = files.Drop(ctx, a.Files, name)
		_ = files.DropEmpty(ctx, a.Files, a.Store().Busy(), a.Store().Top())
	}, nil
}
