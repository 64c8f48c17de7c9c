//go:build unix

package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/home"
	"tivset/internal/records/vault"
	"tivset/internal/trial/servers"
)

// An account is added of the host's mail or by asking: what the servers show is accepted on
// the way, how they are reached and folders are found out, and a mistake is asked again.
func TestAccountByAsking(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	_, port, _ := strings.Cut(p.demo.Standin.Web.Address(), ":")
	data := p.demo.Standin.Database.Address()
	for how, c := range map[string]struct{ server, shows, port string }{
		"sftp": {p.demo.Standin.SSH.Address(), "shows the key SHA256:", ""},
		"ftps": {p.demo.Standin.FTP.Address(), "shows the certificate SHA256:", ""},
	} {
		t.Run(how, func(t *testing.T) {
			name := "asked-" + how
			before := p.snapshot()
			shown, code := onTerminal(t, p.as("tivset", nil, "account", "add", name),
				on("The host's mail, or its server:", "127.0.0.1:1\r"), on("User:", "quill\r"), on("Password", "wrong\r"),
				see("no server answers there"), on("The host's mail, or its server:", c.server+"\r"),
				see(c.shows), on("Is that the one that the host publishes?", "y\r"), see("refused the user"),
				on("Password", p.demo.Password+"\r"), see("Signed in as quill"),
				on("Domain:", "not a domain\r"), see("is not a domain"), on("Domain:", "lockside.localhost\r"),
				see("does not answer"),
				on("Its address [http://lockside.localhost]:", "http://lockside.localhost:"+port+"\r"),
				on("until its name leads there", "127.0.0.1:"+port+"\r"), see("shows the folder web/lockside"),
				on("Database server (- for none) [localhost]:", data+"\r"), on("A user who may make databases", "root\r"),
				on("Password:", "wrong\r"), see("refused the user or password"),
				on("Password of root", p.demo.Password+"\r"), see("may make databases and users"),
				on("Mail server (- for none) [-]:", p.demo.Standin.Mail.Address()+"\r"), see("answers"),
				on(keepIt, "\r"), see("y keeps it"), on(keepIt, "8\r"), on("Names begin with", "quill_\r"),
				see("names begin with quill_"), on(keepIt, "y\r"))
			require.Equal(t, 0, code, shown)
			assert.NotContains(t, shown, p.demo.Password, "passwords are not shown")
			text, err := os.ReadFile(filepath.Join(p.demo.Folder, "config/accounts", name+".yaml"))
			require.NoError(t, err)
			assert.Contains(t, string(text), "files: "+how+"://quill@")
			assert.Contains(t, string(text), "password: vault:"+name+"/login")
			assert.Contains(t, string(text), "primary: true")
			var tested struct{ OK bool }
			p.json(&tested, "account", "test", name)
			assert.True(t, tested.OK)
			assert.Equal(t, before, p.snapshot(), "nothing of the looking is left")
		})
	}
	h := home.At(p.demo.Folder)
	names, err := h.Accounts()
	require.NoError(t, err)
	assert.Equal(t, []string{"asked-ftps", "asked-sftp", "quillmere"}, names)
}

// keepIt is what the form of an account ends with.
const keepIt = "Keep it? y, n or a number:"

// From the host's mail it is at most four answers, pasted or from a file.
func TestAccountFromTheHostsMail(t *testing.T) {
	p := newProgram(t)
	_, port, _ := strings.Cut(p.demo.Standin.Web.Address(), ":")
	mail := "Domain: http://lockside.localhost\nSFTP server: " + p.demo.Standin.SSH.Address() + "\nSFTP user: quill\n" +
		"SFTP password: " + p.demo.Password + "\nMySQL server: " + p.demo.Standin.Database.Address() +
		"\nMySQL user: root\n" +
		"MySQL password: " + p.demo.Password + "\nSMTP server: " + p.demo.Standin.Mail.Address() + "\n"
	file := filepath.Join(t.TempDir(), "welcome.txt")
	require.NoError(t, os.WriteFile(file, []byte(mail), 0o600))
	rest := []turn{on("Is that the one that the host publishes?", "y\r"), see("Signed in as quill"),
		on("Its address [http://lockside.localhost]:", "http://lockside.localhost:"+port+"\r"),
		on("until its name leads there", "127.0.0.1:"+port+"\r"), see("shows the folder web/lockside"),
		see("may make databases"), on(keepIt, "y\r")}
	shown, code := onTerminal(t, p.as("tivset", nil, "account", "add", "one", "--from-mail", file), rest...)
	require.Equal(t, 0, code, shown)
	assert.NotContains(t, shown, p.demo.Password)

	pasted := "\x1b[200~" + strings.ReplaceAll(mail, "\n", "\r") + "\x1b[201~\r"
	shown, code = onTerminal(t, p.as("tivset", nil, "account", "add", "two"),
		append([]turn{on("The host's mail, or its server:", pasted), see("The host's mail says")}, rest[1:]...)...)
	require.Equal(t, 0, code, shown)
	var tested struct{ OK bool }
	p.json(&tested, "account", "test", "two")
	assert.True(t, tested.OK)

	require.NoError(t, os.WriteFile(file, []byte("Dear friend, how are you?\n"), 0o600))
	shown, code = onTerminal(t, p.as("tivset", nil, "account", "add", "three", "--from-mail", file))
	assert.Equal(t, 2, code, shown)
	out, err := p.as("tivset", nil, "account", "add", "three", "--from-mail", file).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "on a terminal")
}

func TestAccountByAskingIsLeft(t *testing.T) {
	p := newProgram(t)
	shown, code := onTerminal(t, p.as("tivset-minding", nil, "account", "add", "other"),
		on("The host's mail, or its server:", "\x03"))
	assert.Equal(t, 3, code, shown)
	assert.Contains(t, shown, "no account was added")
	assert.NoFileExists(t, filepath.Join(p.demo.Folder, "config/accounts/other.yaml"))
	_, code = onTerminal(t, p.as("tivset", nil, "account", "add", "quillmere"))
	assert.Equal(t, 3, code, "one that is kept is not described anew by chance")
}

func TestAccountShown(t *testing.T) {
	p := newProgram(t)
	out, err := p.as("tivset", nil, install("willowbench", "lockside.localhost/forum")...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	var x struct {
		Facts struct {
			Files     int
			Bytes     int64
			Free      int64
			Domains   []struct{ Sites []string }
			Databases []struct {
				Bytes int64
				Site  string
			}
		}
	}
	p.json(&x, "account", "show", "quillmere")
	assert.Positive(t, x.Facts.Files)
	assert.Positive(t, x.Facts.Bytes)
	assert.Positive(t, x.Facts.Free)
	require.Len(t, x.Facts.Databases, 1)
	assert.Contains(t, x.Facts.Databases[0].Site, "/forum")
	assert.Positive(t, x.Facts.Databases[0].Bytes)
	assert.Contains(t, x.Facts.Domains[1].Sites[0], "willowbench")
}

// A mail that a terminal does not mark as pasted, with a salutation, sentences and a signature: all of it is
// one answer, and nothing of it reaches a later question. Esc and other keys hang nothing. What was
// answered is not lost when the conversation is left; a name that is none is put right.
func TestAnAccountThatIsBegunAndLeft(t *testing.T) {
	p := newProgram(t)
	_, port, _ := strings.Cut(p.demo.Standin.Web.Address(), ":")
	host, sftp, _ := strings.Cut(p.demo.Standin.SSH.Address(), ":")
	mail := "Dear customer,\n\nyour web space is ready.\n\nSFTP server: " + host + ", port " + sftp +
		"\nYour user name is quill and your password is not-this 1.\nYour domain lockside.localhost shows the folder " +
		"web/lockside.\n\nMySQL: " + p.demo.Standin.Database.Address() + ", user root, password " + p.demo.Password +
		"\n\nKind regards,\nthe Quayhost team"
	shown, code := onTerminal(t, p.as("tivset-minding", nil, "account", "add", "Boat Club"),
		see("The account is called boat-club."),
		on("The host's mail, or its server:", "\x1b\x1b[15~"+strings.ReplaceAll(mail, "\n", "\r")),
		see("The host's mail says"), see("line 5"), on("publishes? [y/N/?]", "?\r"), see("fingerprint"),
		on("publishes? [y/N/?]", "y\r"), see("refused the user"), on("Password, or nothing", "\x03"))
	assert.Equal(t, 3, code, shown)
	assert.Contains(t, shown, "to go on with it: tivset account add boat-club")
	kept, err := os.ReadFile(filepath.Join(p.demo.Folder, "state", "begun-account.json"))
	require.NoError(t, err)
	assert.NotContains(t, string(kept), "not-this")
	assert.NotContains(t, string(kept), p.demo.Password)

	shown, code = onTerminal(t, p.as("tivset", nil, "account", "add"),
		on("Go on with the account boat-club, which was begun today at", "y\r"), see("lockside.localhost"),
		on("Password, or nothing", p.demo.Password+"\r"), see("Signed in as quill"),
		on("Its address [http://lockside.localhost]:", "http://lockside.localhost:"+port+"\r"),
		on("until its name leads there", "127.0.0.1:"+port+"\r"), see("shows the folder web/lockside"),
		on("Password of root", p.demo.Password+"\r"), see("may make databases"),
		see("no mail server: nobody is told"), on(keepIt, "y\r"))
	require.Equal(t, 0, code, shown)
	assert.NoFileExists(t, filepath.Join(p.demo.Folder, "state", "begun-account.json"))
	var tested struct{ OK bool }
	p.json(&tested, "account", "test", "boat-club")
	assert.True(t, tested.OK)
}

// What a mail says can be seen without any server being asked, as a table and as JSON.
func TestWhatAMailSays(t *testing.T) {
	p := newProgram(t)
	file := filepath.Join(t.TempDir(), "welcome.txt")
	require.NoError(t, os.WriteFile(file, []byte("SFTP server: sftp.quayhost.example, port 2022\nUser: quill\n"+
		"Password: Lamp 92\nYour domain lockside.example shows the folder /web.\n"), 0o600))
	out, err := p.as("tivset", nil, "account", "add", "one", "--from-mail", file, "--dry-run", "--json").Output()
	require.NoError(t, err)
	assert.JSONEq(t, `{"files": {"protocol": "sftp", "host": "sftp.quayhost.example", "port": 2022, "user": "quill",
		"password": true}, "domains": [{"name": "lockside.example", "folder": "/web"}]}`, string(out))
	text, err := p.as("tivset", nil, "account", "add", "--from-mail", file, "--dry-run").CombinedOutput()
	require.NoError(t, err, "%s", text)
	assert.Contains(t, string(text), "No server was asked")
	assert.NotContains(t, string(text), "Lamp 92")
	none, err := p.as("tivset", nil, "account", "add", "one", "--dry-run").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(none), "--from-mail FILE")
}

// A password that was changed at the host: whatever is refused names the command that takes the new one; that
// tries it first, and keeps the one from before where it is wrong too.
func TestANewPasswordAtTheHost(t *testing.T) {
	p := newProgram(t)
	_, port, _ := strings.Cut(p.demo.Standin.Web.Address(), ":")
	dir := t.TempDir()
	file := filepath.Join(dir, "far.yaml")
	require.NoError(t, os.WriteFile(file, []byte("account: far\nfiles: sftp://quill@"+p.demo.Standin.SSH.Address()+
		p.demo.Standin.Root+"\nlogin: {password: plain:from-last-year}\ndomains:\n  - {name: lockside.localhost, "+
		"folder: web/lockside, url: "+
		"\"http://lockside.localhost:"+port+"\", primary: true}\ndatabases:\n  - {name: main, engine: mariadb, server: \""+
		p.demo.Standin.Database.Address()+"\", admin: {user: root, password: \"plain:"+p.demo.Password+"\"}}\n"), 0o600))
	for _, args := range [][]string{{"account", "add", "far", "--from", file},
		{"account", "trust", "far", p.demo.Standin.SSH.Fingerprint()}} {
		out, err := p.as("tivset", nil, args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	refused, err := p.as("tivset", nil, "account", "test", "far").CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(refused), "tivset account password far")
	refused, err = p.as("tivset", nil, install("inkreach", "lockside.localhost/j", "--account", "far")...).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(refused), "tivset account password far")

	shown, code := onTerminal(t, p.as("tivset", nil, "account", "password", "far"), see("refused the user"),
		on("The new password of quill", "wrong-too\r"), see("Type it again"), on("The new password of quill", "\r"))
	assert.Equal(t, 3, code, shown)
	word := filepath.Join(dir, "word")
	require.NoError(t, os.WriteFile(word, []byte("wrong-three\n"), 0o600))
	out, err := p.as("tivset", nil, "account", "password", "far", "-a", "files=@"+word).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "the one from before is kept")
	h := home.At(p.demo.Folder)
	v := vault.At(h.Vault(), h.VaultKey())
	before, err := v.Get("far/login")
	require.NoError(t, err)
	assert.Equal(t, "from-last-year", before.Reveal())
	drafts, err := v.Names("far.draft/")
	require.NoError(t, err)
	assert.Empty(t, drafts, "nothing of the try is left")
	out, err = p.as("tivset", nil, "account", "password", "far", "-a", "mail=@"+word).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "There are: files, main")

	shown, code = onTerminal(t, p.as("tivset", nil, "account", "password", "far"),
		on("The new password of quill", p.demo.Password+"\r"), see("It signs in, and is kept"),
		see("main: root at"), see("The new password is kept for: files."))
	assert.Equal(t, 0, code, shown)
	assert.NotContains(t, shown, p.demo.Password)
	var said struct{ Changed, Good []string }
	p.json(&said, "account", "password", "far")
	assert.Equal(t, []string{"files", "main"}, said.Good)
	assert.Empty(t, said.Changed)
}
