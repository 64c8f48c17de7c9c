//go:build unix

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
	for word, mail := range map[string]string{
		"sentences": "Dear customer,\n\nSFTP server: " + host + ", port " + sftp + "\nYour user name is quill and your " +
			"password is " + password + ".\nYour domain lockside.localhost shows the folder web/lockside.\nMySQL: " + data +
			", user root, password " + password + ".\n",
		"german": "Guten Tag,\n\nIhre Domain: lockside.localhost\n\nSFTP-Zugang\nServer: " + host + "\nPort: " + sftp +
			"\nBenutzername: quill\nPasswort: " + password + "\n\nDatenbank (MySQL)\nServer: " + data +
			"\nBenutzername: root\nPasswort: " + password + "\n",
		"table": "Hola:\n\nServicio\tServidor\tUsuario\tContraseña\nSFTP\t" + ssh + "\tquill\t" + password +
			"\nMySQL\t" + data + "\troot\t" + password + "\n\nDominio\tlockside.localhost\n",
		"french": "Bonjour,\n\nNom de domaine : lockside.localhost\n\nAccès SFTP\nServeur : " + host + "\nPort : " + sftp +
			"\nIdentifiant : quill\nMot de passe : " + password + "\n\nBase de données MySQL\nServeur : " + data +
			"\nIdentifiant : root\nMot de passe : " + password + "\n",
		"italian": "Gentile cliente,\n\nDominio: lockside.localhost\n\nAccesso SFTP\nServer: " + ssh +
			"\nNome utente: quill\nPassword: " + password + "\n\nDatabase MySQL\nServer: " + data +
			"\nNome utente: root\nPassword: " + password + "\n",
		"dutch": "Beste klant,\n\nDomein: lockside.localhost\n\nSFTP\nServer: " + host + "\nPoort: " + sftp +
			"\nGebruikersnaam: quill\nWachtwoord: " + password + "\n\nMySQL\nServer: " + data +
			"\nGebruikersnaam: root\nWachtwoord: " + password + "\n",
		"portuguese": "Caro cliente,\n\nDomínio: lockside.localhost\n\nSFTP\nServidor: " + host + "\nPorta: " + sftp +
			"\nUtilizador: quill\nSenha: " + password + "\n\nMySQL\nServidor: " + data + "\nUtilizador: root\nSenha: " +
			password + "\n",
		"polish": "Szanowny Kliencie,\n\nDomena: lockside.localhost\n\nSFTP\nSerwer: " + host + "\nPort: " + sftp +
			"\nUżytkownik: quill\nHasło: " + password + "\n\nMySQL\nSerwer: " + data + "\nUżytkownik: root\nHasło: " +
			password + "\n",
		"one line": "Hello,\n\nyour domain: lockside.localhost\nSFTP: " + ssh + ", user quill, password " + password +
			"\nMySQL: " + data + ", user root, password " + password + "\n",
		"html": "<html><body><p>Dear customer,</p><table><tr><td>Domain</td><td>lockside.localhost</td></tr></table>" +
			"<h2>SFTP</h2><table><tr><td>Server</td><td>" + ssh + "</td></tr><tr><td>User</td><td>quill</td></tr>" +
			"<tr><td>Password</td><td>" + password + "</td></tr></table><h2>MySQL</h2><table><tr><td>Server</td><td>" + data +
			"</td></tr><tr><td>User</td><td>root</td></tr><tr><td>Password</td><td>" + password +
			"</td></tr></table></body></html>",
	} {
		name := strings.ReplaceAll(word, " ", "-")
		file := filepath.Join(t.TempDir(), "welcome.txt")
		require.NoError(t, os.WriteFile(file, []byte(mail), 0o600))
		began := time.Now()
		first := []turn{on("publishes? [y/N/?]", "y\r"),
			on("Its address", "http://lockside.localhost:"+port+"\r"),
			on("until its name leads there", "127.0.0.1:"+port+"\r"),
			on(keepIt, "y\r")}
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
		assert.LessOrEqual(t, answers, 8, shown)
		took := time.Since(began)
		assert.Less(t, took, 3*time.Minute)
		fmt.Printf("from the mail to a checked site (%s): %d answers, %.1f s\n", name, answers, took.Seconds())
	}
}
