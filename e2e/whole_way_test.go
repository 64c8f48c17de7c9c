//go:build unix

package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/records/home"
	"tivset/internal/testing/chaos"
	"tivset/internal/trial/servers"
)

// crontab is a program that keeps the crontab in a file (crontab(1)).
const crontab = "#!/bin/sh\ncase $1 in\n-l) [ -e %[1]s ] && cat %[1]s || { echo 'no crontab for x' >&2; exit 1; };;\n" +
	"-r) rm %[1]s;;\n*) cat >%[1]s;;\nesac\n"

// An owner's whole way on real servers, on a terminal of 80x24: the host's mail, a site over FTPS, a machine that looks
// after it, a week in which a release comes that is broken, a laptop that is lost, and another one that goes on.
func TestTheWholeWay(t *testing.T) {
	servers.Slow(t)
	g := chaos.NewGround(t, servers.PHPWeb)
	_, port, _ := strings.Cut(g.Web, ":")
	kits, tools, lines := chaos.Folder(t), t.TempDir(), filepath.Join(t.TempDir(), "crontab")
	require.NoError(t, os.WriteFile(filepath.Join(tools, "crontab"), []byte(fmt.Sprintf(crontab, lines)), 0o755))
	machine := func() string {
		folder := filepath.Join(t.TempDir(), "home")
		require.NoError(t, os.MkdirAll(filepath.Join(folder, "config"), 0o700))
		h := home.At(folder)
		require.NoError(t, h.PutCatalogues(home.Catalogues{Folders: []home.Folder{{Name: "kits", Folder: kits}}}))
		require.NoError(t, h.KeepOperator("the wharfinger"))
		return folder
	}
	laptop := machine()
	as := func(name, at, after string, words ...string) *exec.Cmd {
		p := &program{t: t, demo: &demo.Demo{}}
		return p.as(name, []string{"TIVSET_HOME=" + at, "LATER=" + after,
			"PATH=" + tools + ":" + os.Getenv("PATH")}, words...)
	}
	small := pty.Winsize{Rows: 24, Cols: 80}
	step := func(at string, words []string, turns ...turn) string {
		t.Helper()
		shown, code := onScreen(t, small, as("tivset", at, "0s", words...), turns...)
		require.Equal(t, 0, code, shown)
		return shown
	}
	mail := filepath.Join(t.TempDir(), "welcome.txt")
	require.NoError(t, os.WriteFile(mail, []byte(g.Mail()), 0o600))
	step(laptop, []string{"account", "add", "quay", "--from-mail", mail}, on("the host publishes?", "y\r"),
		on("Its address", "http://lockside.localhost:"+port+"\r"), on("until its name leads there", g.Web+"\r"),
		on(keepIt, "y\r"))
	step(laptop, []string{"install", "restless", "--release", "1.0.0"}, on("Address", "lockside.localhost/talk\r"),
		on("E-mail address", "w@lockside.localhost\r"), on("Title", "Lockside Talk\r"), on(toInstall, "y\r"),
		on("Switch it on?", "y\r"))
	text, err := os.ReadFile(lines)
	require.NoError(t, err)
	assert.Contains(t, string(text), "maintain", "the machine looks by itself")
	step(laptop, []string{"care", "talk", "--accepts", "features", "--after", "0d", "--between", "any",
		"--backups", "daily, 7d,4w,6m"})
	stick := filepath.Join(t.TempDir(), "stick")
	step(laptop, []string{"recovery", "save", stick}, on("A passphrase", "seven lamps over the weir\r"),
		on("The same once more", "seven lamps over the weir\r"))
	var before, after struct{ Password string }
	said, err := as("tivset", laptop, "0s", "reveal", "talk", "--json").Output()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(said, &before))

	week, err := as("tivset-later", laptop, "170h", "maintain").CombinedOutput()
	require.Error(t, err, "the newest release does not work")
	assert.Contains(t, string(week), "the update to 3.0.0 was not made, and 1.0.0 stays")
	assert.Contains(t, string(week), "backed up")

	other := filepath.Join(t.TempDir(), "other") // the laptop is lost
	step(other, []string{"recovery", "open", stick}, on("passphrase", "seven lamps over the weir\r"))
	said, err = as("tivset-later", other, "171h", "reveal", "talk", "--json").Output()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(said, &after))
	assert.Equal(t, before, after)
	out, err := as("tivset-later", other, "171h", "restore", "talk", "--yes").CombinedOutput()
	require.NoError(t, err, "%s", out)
	out, _ = as("tivset-later", other, "171h", "check", "talk", "-v").CombinedOutput()
	assert.Contains(t, string(out), "✓ sign-in", "%s", out)
	assert.Contains(t, string(out), "✓ front page", "%s", out)
	out, err = as("tivset-later", other, "171h", "remove", "talk", "--yes").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.NoDirExists(t, filepath.Join(g.Root, "web/lockside/talk"))
}
