package account_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
)

const file = `account: quillmere
files: local:/srv/quillmere
domains:
  - name: lockside.localhost
    folder: web/lockside/
    url: http://lockside.localhost:8780/
    connect: 127.0.0.1:8780
  - {name: quillmere.localhost, folder: web/quillmere, primary: true}
databases:
  - name: main
    engine: mariadb
    server: 127.0.0.1:8781
    for-sites: localhost
    admin: {user: root, password: "plain:x"}
    prefix: quill_
  - {name: far, engine: mariadb, server: "db.quillmere.example:3306", make: by-hand}
runtime: {php: /usr/bin/php}
mail: {server: 127.0.0.1:8782, from: hosting@quillmere.localhost}
`

func TestParse(t *testing.T) {
	a, err := account.Parse([]byte(file))
	require.NoError(t, err)
	top, err := a.Top()
	require.NoError(t, err)
	assert.Equal(t, "/srv/quillmere", top)
	assert.Equal(t, ".tivset", a.Store)
	assert.Equal(t, "http://lockside.localhost:8780", a.Domains[0].URL)
	assert.Equal(t, "web/lockside", a.Domains[0].Folder)
	assert.Equal(t, "http://quillmere.localhost", a.Domains[1].URL)
	assert.Equal(t, []string{"localhost", "127.0.0.1"}, a.Database("main", "").Clients)
	assert.Equal(t, []string{"%"}, a.Database("far", "").Clients)
	assert.Equal(t, "db.quillmere.example:3306", a.Database("far", "").ForSites)
	assert.Nil(t, a.Database("none", "mariadb"))
	assert.Equal(t, "mariadb", a.Database("db.elsewhere.example:3306", "mariadb").Engine,
		"a server is known by its address too")
	text, err := a.Format()
	require.NoError(t, err)
	again, err := account.Parse(text)
	require.NoError(t, err)
	assert.Equal(t, a, again)
}

func TestMistakes(t *testing.T) {
	const start = "account: a\nfiles: local:/srv\n"
	const domain = "domains: [{name: a.localhost, folder: web}]\n"
	const data = start + domain + "databases: [{name: m, "
	const maria = data + "engine: mariadb, server: "
	for text, words := range map[string]string{
		"":                                   "empty",
		"account: [":                         "cannot be read",
		start + domain + "own-foldr: x\n":    "Did you mean own-folder?",
		start + domain + "---\naccount: b\n": "more than one document",
		"account: A B\nfiles: local:/srv\n" +
			domain: "not a name for an account",
		"account: sites\nfiles: local:/srv\n" +
			domain: "not a name for an account",
		"account: a\nfiles: local:srv\n" +
			domain: "folder from the root",
		"account: a\nfiles: sftp://x:pw@y/z\n" +
			domain: "a password does not belong into reach",
		"account: a\nfiles: sftp://y/z\n" +
			domain: "is not sftp://USER@HOST",
		"account: a\nfiles: sftp://x@y\n" +
			domain: "is not sftp://USER@HOST",
		"account: a\nfiles: ftp://x@y/z\n" +
			domain: "FTP needs a password",
		"account: a\nfiles: ftps://y/z\n" +
			domain: "is not ftps://USER@HOST",
		start + domain + "runtime: {folder: web}\n": "not a folder from the root",
		"account: a\nfiles: gopher:x\n" +
			domain: "not a way to reach files",
		start: "there are none",
		start + "domains: [{name: A_b, folder: web}]\n":                                            "is not a domain",
		start + "domains: [{name: a.localhost, folder: /web}]\n":                                   "not a folder inside",
		start + "domains: [{name: a.localhost, folder: ../web}]\n":                                 "not a folder inside",
		start + "domains: [{name: a.localhost, folder: web, url: \"http://b/\"}]\n":                "does not lead to",
		start + "domains: [{name: a.localhost, folder: web, url: \"ftp://a.localhost\"}]\n":        "does not lead to",
		start + "domains: [{name: a.localhost, folder: web, connect: x}]\n":                        "not host:port",
		start + "domains: [{name: a.localhost, folder: web}, {name: a.localhost, folder: web2}]\n": "stands twice",
		start + "own-folder: web/s\n" +
			domain: "lies in the document root",
		data + "engine: nonesuch, server: \"h:1\", make: helper}]\n": "cannot be used",
		data + "engine: sqlite, server: web/data}]\n":                "the web serves",
		data + "engine: sqlite, server: ../data}]\n":                 "not a folder inside",
		data + "engine: sqlite, server: data, admin: {user: x}}]\n":  "nobody signs in",
		maria + "h, make: by-hand}]\n":                               "neither host:port nor",
		maria + "\"h:1\"}]\n":                                        "either admin or make",
		maria + "\"h:1\", make: magic}]\n":                           "not a way to make",
		maria + "\"h:1\", admin: {user: \"\"}}]\n":                   "it is empty",
		maria + "\"h:1\", make: helper, prefix: \"a-\"}]\n":          "cannot begin a name",
		maria + "\"h:1\", make: helper}]\n":                          "helper's program is missing",
		start + domain + "mail: {server: x}\n":                       "not host:port",
	} {
		_, err := account.Parse([]byte(text))
		require.Error(t, err, text)
		f := fault.Of(err)
		said := err.Error() + f.Remedy
		for _, p := range f.Problems {
			said += p.String()
			assert.NotEmpty(t, p.Remedy, text)
		}
		assert.Contains(t, said, words, text)
		assert.NotEmpty(t, f.Remedy)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(file))
	f.Fuzz(func(t *testing.T, text []byte) { _, _ = account.Parse(text) })
}

func TestRemote(t *testing.T) {
	a, err := account.Parse([]byte("account: a\nfiles: sftp://quill@ssh.quillmere.example/home/quill/\nlogin: " +
		"{password: \"plain:x\", key: /k}\ndomains: [{name: a.localhost, folder: web}]\n" +
		"databases: [{name: main, engine: mariadb, server: \"tunnel:localhost:3306\", make: by-hand}]"))
	require.NoError(t, err)
	assert.Equal(t, &account.Remote{User: "quill", Address: "ssh.quillmere.example:22", Top: "/home/quill"}, a.Remote())
	top, err := a.Top()
	require.NoError(t, err)
	assert.Equal(t, "/home/quill", top)
	assert.Equal(t, "localhost:3306", a.Databases[0].ForSites, "the sites see the server as the machine does")
	assert.Equal(t, []string{"localhost", "127.0.0.1"}, a.Databases[0].Clients)
	assert.Equal(t, "/home/quill", a.ServerTop())
	assert.Equal(t, account.SFTP, a.Line())
	plain, err := account.Parse([]byte("account: a\nfiles: ftps://quill@ftp.quillmere.example/\nlogin: {password: " +
		"\"plain:x\"}\ndomains: [{name: a.localhost, folder: web}]"))
	require.NoError(t, err)
	assert.Equal(t, &account.Remote{User: "quill", Address: "ftp.quillmere.example:21", Top: "."}, plain.Remote())
	assert.Empty(t, plain.ServerTop(), "over FTP paths may begin anywhere")
	plain.Runtime.Folder = "/home/quill"
	assert.Equal(t, "/home/quill", plain.ServerTop())
	here, err := account.Parse([]byte("account: a\nfiles: local:/srv/a\ndomains: [{name: a.localhost, folder: web}]"))
	require.NoError(t, err)
	assert.Nil(t, here.Remote())
}

// All mistakes are told at once, each at its place in the file.
func TestAllMistakesAtOnce(t *testing.T) {
	_, err := account.Parse([]byte(`account: a
files: ftp://quill@ftp.quillmere.example/
own-folder: web/one/store
domains:
  - {name: "http://a.localhost", folder: web/one}
  - {name: b.localhost, folder: ../b, connect: nowhere}
databases:
  - {name: main, engine: mariadb, server: here}
  - {name: files, engine: sqlite, server: web/one/data}
mail: {server: here}
`))
	var at []string
	for _, p := range fault.Of(err).Problems {
		at = append(at, p.ID)
	}
	for _, want := range []string{"login", "own-folder", "domains[0].name", "domains[0].url", "domains[1].folder",
		"domains[1].connect", "databases[0].server", "databases[0].admin", "databases[1].server", "mail.server"} {
		assert.Contains(t, at, want)
	}
}

// An FTP address begins in the login folder, as everywhere else; a second slash
// leads to the root.
func TestFoldersOfFTP(t *testing.T) {
	for reach, want := range map[string]string{
		"ftps://quill@h.localhost/": ".", "ftp://quill@h.localhost/web/a": "web/a",
		"ftps://quill@h.localhost//srv/a":       "/srv/a",
		"ftps://quill@h.localhost/%2Fsrv/a%20b": "/srv/a b", "ftps://quill@h.localhost/%2f": "/",
		"sftp://quill@h.localhost/srv/a": "/srv/a",
	} {
		a := &account.Account{Reach: reach}
		require.NotNil(t, a.Remote(), reach)
		assert.Equal(t, want, a.Remote().Top, reach)
	}
}
