package accounts

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A machine without a crontab has the user's own systemd do it, which makes up for what was missed.
func TestATimerOfSystemd(t *testing.T) {
	units := filepath.Join(t.TempDir(), "systemd/user")
	var called []string
	var refuses string
	s := &Keeper{
		Crontab: func(context.Context, string, ...string) ([]byte, error) { return nil, fs.ErrNotExist },
		Systemd: Systemd{Units: units, Systemctl: func(_ context.Context, args ...string) ([]byte, error) {
			called = append(called, strings.Join(args, " "))
			if refuses != "" && strings.Contains(called[len(called)-1], refuses) {
				return nil, errors.New("Failed to connect to bus")
			}
			return nil, nil
		}},
	}
	ctx := context.Background()
	mine := Timer{Every: "3h", Program: "/opt/ti vset/50%", Home: "/home/w/$x", Queue: true}
	line, by, err := s.RoundsLine(ctx, mine)
	require.NoError(t, err)
	assert.Empty(t, line+by)
	by, err = s.SetRounds(ctx, mine, true)
	require.NoError(t, err)
	assert.Equal(t, BySystemd, by)
	names, err := filepath.Glob(units + "/*")
	require.NoError(t, err)
	require.Len(t, names, 2)
	service, err := os.ReadFile(names[0])
	require.NoError(t, err)
	assert.Contains(t, string(service), "\nEnvironment=\"TIVSET_HOME=/home/w/$x\"\n")
	assert.Contains(t, string(service), "\nExecStart=\"/opt/ti vset/50%%\" \"maintain\" \"--quiet\" \"--queue\"\n")
	timer, err := os.ReadFile(names[1])
	require.NoError(t, err)
	assert.Contains(t, string(timer), "\nOnCalendar=0/3:00\nPersistent=true\n")
	assert.Equal(t, "--user enable --now "+filepath.Base(names[1]), called[len(called)-1])
	line, by, err = s.RoundsLine(ctx, mine)
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Base(names[1]) + ": 0/3:00", BySystemd}, []string{line, by})
	other := Timer{Every: "30m", Program: "/bin/tivset"}
	require.NoError(t, set(s, ctx, other, true), "each home has its own")
	line, _, err = s.RoundsLine(ctx, other)
	require.NoError(t, err)
	assert.Equal(t, "tivset-maintain.timer: *:0/30", line)

	require.NoError(t, set(s, ctx, mine, false))
	line, _, err = s.RoundsLine(ctx, mine)
	require.NoError(t, err)
	assert.Empty(t, line)
	require.NoError(t, set(s, ctx, mine, false), "it is off already")
	require.NoError(t, set(s, ctx, other, false))
	names, err = filepath.Glob(units + "/*")
	require.NoError(t, err)
	assert.Empty(t, names)

	refuses = "enable"
	assert.ErrorContains(t, set(s, ctx, mine, true), "the timer of systemd cannot be set")
	names, err = filepath.Glob(units + "/*")
	require.NoError(t, err)
	assert.Empty(t, names, "nothing of it is left")
	refuses = "show-environment"
	_, err = s.SetRounds(ctx, mine, true)
	assert.ErrorContains(t, err, "this machine has no crontab", "and no systemd that answers")
}

// What was set by systemd is switched off too where there is a crontab by now.
func TestOffWhereverItIsOn(t *testing.T) {
	crontab := false
	s := &Keeper{
		Crontab: func(context.Context, string, ...string) ([]byte, error) {
			if !crontab {
				return nil, fs.ErrNotExist
			}
			return nil, nil
		},
		Systemd: Systemd{Units: t.TempDir(), Systemctl: func(context.Context, ...string) ([]byte, error) { return nil, nil }},
	}
	ctx, mine := context.Background(), Timer{Every: "1h", Program: "/bin/tivset"}
	require.NoError(t, set(s, ctx, mine, true))
	crontab = true
	_, by, err := s.RoundsLine(ctx, mine)
	require.NoError(t, err)
	assert.Equal(t, BySystemd, by)
	require.NoError(t, set(s, ctx, mine, false))
	line, _, err := s.RoundsLine(ctx, mine)
	require.NoError(t, err)
	assert.Empty(t, line)
}
