package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// From the host's mail to a site that was checked, in a terminal: eight answers at most, and two more as the
// demo's domains resolve to nothing yet. It says how long that took.
func TestFromTheMailToASite(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	_, port, _ := strings.Cut(p.demo.Standin.Web.Address(), ":")
	ssh, data, password := p.demo.Standin.SSH.Address(), p.demo.Standin.Database.Address(), p.demo.Password
	host, sftp, _ := strings.Cut(ssh, ":")
	known := false
	for name, mail := range map[string]string{
		"sentences": "Dear customer,\n\nSFTP server: " + host + ", port " + sftp + "\nYour user name is quill and your " +
			"password is " + password + ".\nYour domain lockside.localhost shows the folder web/lockside.\nMySQL: " + data +
			", user root, password " + password + ".\n",
		"german": "Guten Tag,\n\nIhre Domain: lockside.localhost\n\nSFTP-Zugang\nServer: " + host + "\nPort: " + sftp +
			"\nBenutzername: quill\nPasswort: " + password + "\n\nDatenbank (MySQL)\nServer: " + data +
			"\nBenutzername: root\nPasswort: " + password + "\n",
		"table": "Hola:\n\nServicio\tServidor\tUsuario\tContraseña\nSFTP\t" + ssh + "\tquill\t" + password +
			"\nMySQL\t" + data + "\troot\t" + password + "\n\nDominio\tlockside.localhost\n",
	} {
		file := filepath.Join(t.TempDir(), "welcome.txt")
		require.NoError(t, os.WriteFile(file, []byte(mail), 0o600))
		began := time.Now()
		first := []turn{on("publishes? [y/N/?]", "y\r"),
			on("Its address", "http://lockside.localhost:"+port+"\r"),
			on("until its name leads there", "127.0.0.1:"+port+"\r"),
			on("Mail server", "\r"), on(keepIt, "y\r")}
		if known {
			first = first[1:]
		}
		known = true
		shown, code := onTerminal(t, p.as("tivset", nil, "account", "add", name, "--from-mail", file), first...)
		require.Equal(t, 0, code, shown)
		second := []turn{on("App:", "forum\r"), on("Address", "1/"+name+"\r"), on("E-mail address", "w@lockside.localhost\r"),
			on("Title", "Lockside Talk\r"), on("yes, no, or show", "y\r"), on(toInstall, "y\r")}
		shown, code = onTerminal(t, p.as("tivset", nil, "install", "--account", name), append(second,
			see("Seen to work: front page, sign-in"))...)
		require.Equal(t, 0, code, shown)
		answers := len(first) + len(second) - 2 // where the domain is reached
		assert.LessOrEqual(t, answers, 9, "eight, and Enter for no mail server")
		took := time.Since(began)
		assert.Less(t, took, 3*time.Minute)
		fmt.Printf("from the mail to a checked site (%s): %d answers, %.1f s\n", name, answers, took.Seconds())
	}
}
