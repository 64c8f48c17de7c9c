package accounts

import (
	"context"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/ssh"
)

// ownTimer names the lines of this program in this machine's crontab.
const ownTimer = "updates that are due"

// OwnTimer has this machine's cron look every hour for updates that are due, which each
// site takes at the hours that its care names, or no more. Program and home are whole
// paths; home is "" for the usual one.
func (k *Keeper) OwnTimer(ctx context.Context, program, home string, on bool) error {
	refused := func(err error) error {
		return fault.New(fault.Failed, "this machine's crontab cannot be changed", "crontab",
			"Have your own scheduler run: "+fault.Call("update", "--due", "--in-hours", "--quiet")).Because(err)
	}
	out, err := k.Crontab(ctx, "", "-l")
	before := string(out)
	if err != nil && !strings.Contains(strings.ToLower(err.Error()+before), "no crontab") {
		return refused(err)
	}
	if err != nil {
		before = ""
	}
	after := hosting.WithoutTimers(before, ownTimer)
	if on {
		line := ssh.Quote([]string{program, "update", "--due", "--in-hours", "--quiet"})
		if home != "" {
			line = "TIVSET_HOME=" + ssh.Quote([]string{home}) + " " + line
		}
		after = hosting.WithTimers(before, ownTimer, []string{hosting.TimerLine("1h", home+program, line)})
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
		return refused(err)
	}
	return nil
}
