package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/home"
	"tivset/internal/testing/servers"
)

// An account is added by asking: what the servers show is accepted on the way,
// folders are found, the domain is proved, and a mistake is asked again.
func TestAccountByAsking(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	_, port, _ := strings.Cut(p.demo.Standin.Web.Address(), ":")
	data := p.demo.Standin.Database.Address()
	for how, c := range map[string]struct {
		server, folder, database string
		shows                    string
	}{
		"sftp": {p.demo.Standin.SSH.Address(), p.demo.Standin.Root, "tunnel:" + data, "shows the key SHA256:"},
		"ftps": {p.demo.Standin.FTP.Address(), "/", data, "shows the certificate SHA256:"},
	} {
		t.Run(how, func(t *testing.T) {
			name := "asked-" + how
			before := p.snapshot()
			shown, code := onTerminal(t, p.as("tivset", nil, "account", "add", name),
				on("How are the account's files reached (here, sftp, ftps, ftp) [sftp]:", "rsync\r"), see("cannot be chosen"),
				on("[sftp]:", how+"\r"), on("Server:", "<\r"), on("[sftp]:", how+"\r"), on("Server:", c.server+"\r"),
				on("User:", "quill\r"), on("Password", p.demo.Password+"\r"),
				on("The account's folder there", c.folder+"\r"),
				see(c.shows), on("Is that the one that the host publishes?", "y\r"), see("can be read"),
				on("A domain of the account:", "not a domain\r"), see("is not a domain"),
				on("A domain of the account:", "lockside.localhost\r"),
				see("web/lockside"), on("Its folder [web/lockside]:", "\r"), see("does not answer"),
				on("Its address [http://lockside.localhost]:", "http://lockside.localhost:"+port+"\r"),
				on("until its name resolves", "127.0.0.1:"+port+"\r"),
				on("Its folder [web/lockside]:", "web/chandlery\r"), see("does not lead to this folder"),
				on("Keep it all the same", "n\r"),
				on("Its folder [web/chandlery]:", "web/lockside\r"), see("leads there"),
				on("Another domain (may stay empty):", "\r"),
				on("Which database server is there (mariadb, postgresql, sqlite, none) [mariadb]:", "postgresql\r"),
				on("The server [", "<\r"),
				on("Which database server is there (mariadb, postgresql, sqlite, none) [mariadb]:", "\r"),
				on("The server [", c.database+"\r"), on("A user who may create databases", "root\r"), on("Password:", "wrong\r"),
				see("refused the user or password"), on("by hand in the hosting's own pages instead?", "n\r"),
				on("The server [", c.database+"\r"), on("A user who may create databases", "root\r"),
				on("Password:", p.demo.Password+"\r"),
				see("databases and users can be made"), on("Names there begin with", "quill_\r"),
				see("account: "+name), on("Keep it?", "y\r"))
			require.Equal(t, 0, code, shown)
			assert.NotContains(t, shown, p.demo.Password, "passwords are not shown")
			text, err := os.ReadFile(filepath.Join(p.demo.Folder, "config/accounts", name+".yaml"))
			require.NoError(t, err)
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

func TestAccountByAskingIsLeft(t *testing.T) {
	p := newProgram(t)
	shown, code := onTerminal(t, p.as("tivset-minding", nil, "account", "add", "other"), on("[sftp]:", "here\r"),
		on("The account's folder:", "\x03"))
	assert.Equal(t, 3, code, shown)
	assert.NoFileExists(t, filepath.Join(p.demo.Folder, "config/accounts/other.yaml"))
	_, code = onTerminal(t, p.as("tivset", nil, "account", "add", "quillmere"))
	assert.Equal(t, 3, code, "one that is kept is not described anew by chance")
}

func TestAccountShown(t *testing.T) {
	p := newProgram(t)
	out, err := p.as("tivset", nil, install("quaybench", "lockside.localhost/forum")...).CombinedOutput()
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
	assert.Contains(t, x.Facts.Domains[1].Sites[0], "quaybench")
}
