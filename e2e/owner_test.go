//go:build unix

package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// An owner's way: an account from the host's mail, three apps, a page for whom one is for,
// care that is changed, and a round that updates one site, refuses the broken release of
// another after its rehearsal, and tells of both by mail.
func TestAnOwnersWay(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	_, port, _ := strings.Cut(p.demo.Standin.Web.Address(), ":")
	home := filepath.Join(t.TempDir(), "home")
	require.NoError(t, os.MkdirAll(filepath.Join(home, "config"), 0o700))
	for _, name := range []string{"catalogues.yaml", "operator"} { // the made-up apps, who works there, nothing else
		text, err := os.ReadFile(filepath.Join(p.demo.Folder, "config", name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(home, "config", name), text, 0o600))
	}
	env := []string{"TIVSET_HOME=" + home, "PATH=" + t.TempDir()} // no crontab: nobody is asked about it
	mail := filepath.Join(t.TempDir(), "welcome.txt")
	require.NoError(t, os.WriteFile(mail, []byte("Ihre Zugangsdaten\n\nDomain: lockside.localhost\n\nSFTP\nServer: "+
		p.demo.Standin.SSH.Address()+"\nBenutzer: quill\nPasswort: "+p.demo.Password+"\n\nDatenbank (MySQL)\nServer: "+
		p.demo.Standin.Database.Address()+"\nBenutzer: root\nPasswort: "+p.demo.Password+"\n\nSMTP: "+
		p.demo.Standin.Mail.Address()+"\n"), 0o600))
	step := func(c []string, turns ...turn) string {
		t.Helper()
		shown, code := onTerminal(t, p.as("tivset", env, c...), turns...)
		require.Equal(t, 0, code, shown)
		return shown
	}
	step([]string{"account", "add", "mine", "--from-mail", mail}, on("the one that the host publishes?", "y\r"),
		on("Its address", "http://lockside.localhost:"+port+"\r"),
		on("until its name leads there", "127.0.0.1:"+port+"\r"), on(keepIt, "y\r"))
	step([]string{"install"}, on("App:", "forum\r"), on("Address", "1/forum\r"),
		on("E-mail address", "w@lockside.localhost\r"), on("Title", "Lockside Talk\r"), on("yes, no, or show", "y\r"),
		on(toInstall, "y\r"),
		see("Seen to work: front page, sign-in"))
	for at, release := range map[string]string{"inkreach": "1.3.2", "towline": "2.0.1"} {
		step([]string{"install", at, "--release", release, "--accept-licence", "-a", "title=" + at}, on("Address",
			"1/"+at+"\r"), on("E-mail address of the admin [w@lockside.localhost]:", "\r"), on(toInstall, "y\r"))
	}
	page := filepath.Join(t.TempDir(), "forum.html")
	step([]string{"handover", "forum", "--into", page})
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.Contains(t, string(text), "the wharfinger", "who wrote it is a person")
	step([]string{"care", "inkreach", "towline", "--accepts", "features", "--after", "0d", "--rehearse", "from-fixes",
		"--notify",
		"changes"}, see("each rehearsed on a copy first"))
	shown, code := onTerminal(t, p.as("tivset", env, "maintain", "--now"))
	assert.Equal(t, 1, code, shown)
	for _, words := range []string{"updated ", "from 1.3.2 to 1.4.0, and checked",
		"the update to 2.1.0 was not made, and 2.0.1 stays; it failed in a rehearsal", "backed up"} {
		assert.Contains(t, shown, words)
	}
	letters, err := filepath.Glob(filepath.Join(p.demo.Standin.Mailbox, "*.eml"))
	require.NoError(t, err)
	require.Len(t, letters, 1, "one mail a round")
	text, err = os.ReadFile(letters[0])
	require.NoError(t, err)
	plain := strings.ReplaceAll(string(text), "=\r\n", "")
	for _, words := range []string{"Subject: towline needs you", "To: <w@lockside.localhost>",
		"Updated: from 1.3.2 to 1.4.0", "The update to 2.1.0 was not made"} {
		assert.Contains(t, plain, words)
	}
	step([]string{"sites"}, see("2.1.0 failed"))
	step([]string{"maintain", "--now"}, see("nothing is due"))
	letters, err = filepath.Glob(filepath.Join(p.demo.Standin.Mailbox, "*.eml"))
	require.NoError(t, err)
	assert.Len(t, letters, 1)
}
