package kits_test

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/app/catalogue"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/plan"
	"tivset/internal/secret"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/kits"
)

// grounds is an account on real servers.
type grounds struct {
	root, web string
	engines   map[string]servers.Database
	requests  map[string]plan.Request
	source    catalogue.Source
	reaches   map[string]func(t *testing.T, w *sitetest.World) (reach, login string)
}

// newGrounds starts servers of its own: those of the web, of files, of mail, and of
// the databases that are named.
func newGrounds(t *testing.T, engines ...string) *grounds {
	t.Helper()
	h := &grounds{root: servers.AccountFolder(t)}
	docroot := filepath.Join(h.root, "web/lockside")
	name, uid := servers.SiteUser(t)
	for _, dir := range []string{"web", "web/lockside"} {
		require.NoError(t, os.Mkdir(filepath.Join(h.root, dir), 0o755))
		require.NoError(t, os.Chown(filepath.Join(h.root, dir), uid, uid))
	}
	h.web = servers.PHPWeb(t, []servers.Site{{Name: "lockside.localhost", Root: docroot}})
	h.engines = map[string]servers.Database{}
	for _, engine := range engines {
		switch engine {
		case "mariadb":
			h.engines[engine] = servers.MariaDB(t)
		case "postgresql":
			h.engines[engine] = servers.PostgreSQL(t)
		}
	}
	h.requests = map[string]plan.Request{
		"tt-rss": {App: "tt-rss", At: "lockside.localhost/news", Answers: answer.Given{"title": `News "of" the $lock's`,
			"admin.name": "wharfinger", "admin.email": "wharfinger@lockside.localhost"}},
	}
	h.source = catalogue.Source{Name: "built-in", Files: kits.Files}
	sshd := servers.OpenSSHAs(t, name, "ForceCommand internal-sftp\n")
	proftpd := servers.ProFTPD(t, servers.FTPOptions{Home: h.root, TLS: true, UID: uid})
	h.reaches = map[string]func(*testing.T, *sitetest.World) (string, string){
		"local": nil,
		"SFTP": func(t *testing.T, w *sitetest.World) (string, string) {
			_, err := w.Reach.Hosts.Trust(sshd.Address, sshd.Fingerprint)
			require.NoError(t, err)
			return fmt.Sprintf("sftp://%s@%s%s", sshd.User, sshd.Address, h.root), "{key: " + sshd.KeyFile + "}"
		},
		"FTPS": func(t *testing.T, w *sitetest.World) (string, string) {
			w.Reach.Certificates.Roots = proftpd.Roots
			return fmt.Sprintf("ftps://%s@%s/", proftpd.User, proftpd.Address),
				fmt.Sprintf("{password: %q}", "plain:"+proftpd.Password)
		},
	}
	return h
}

// world sets up Tivset on the account, by a reach and with one engine.
func (h *grounds) world(t *testing.T, reach, engine string) *sitetest.World {
	t.Helper()
	d := h.engines[engine]
	data := fmt.Sprintf("{name: main, engine: %s, server: %q, admin: {user: %q, password: %q}, prefix: quill_}", engine,
		d.Address, d.User, "plain:"+d.Password)
	if engine == "sqlite" {
		data = "{name: main, engine: sqlite, server: data}"
	}
	_, port, _ := strings.Cut(h.web, ":")
	file := func(reach, login string) string {
		return fmt.Sprintf("account: quillmere\nfiles: %s\nlogin: %s\ndomains:\n  - {name: lockside.localhost, folder: "+
			"web/lockside, url: \"http://lockside.localhost:%s\", connect: %q}\ndatabases:\n  - %s\nruntime: {folder: %q}\n",
			reach, login, port, h.web, data, h.root)
	}
	w := sitetest.Local(t, h.root, file("local:"+h.root, "{}"), h.source)
	w.Hosting.Settle = hosting.UsualSettle
	byThisMachine(t, w)
	if d.Address != "" {
		w.Real = &d
	}
	if how := h.reaches[reach]; how != nil {
		to, login := how(t, w)
		_, err := account.Parse([]byte(file(to, login)))
		require.NoError(t, err)
		_, err = w.Accounts.Add("quillmere", []byte(file(to, login)), true, os.Getenv)
		require.NoError(t, err)
	}
	return w
}

// On FTP-only hosting with a database that only the sites can reach, a helper page
// unpacks, loads the schema and checks; it is gone afterwards, and undoing
// sends another.
func TestDatabaseSeenOnlyFromInside(t *testing.T) {
	t.Parallel()
	h := newGrounds(t, "mariadb")
	for app, engine := range map[string]string{"tt-rss": "mariadb"} {
		t.Run(app, func(t *testing.T) {
			w := h.world(t, "FTPS", engine)
			server, err := w.Hosting.OpenServer(context.Background(), mustAccount(t, w), &mustAccount(t, w).Databases[0],
				loginOf(h.engines[engine]))
			require.NoError(t, err)
			u := database.User{Name: "quill_hand", Clients: []string{"localhost", "127.0.0.1"},
				Password: secret.Of("made by hand, é"), Database: "quill_hand"}
			require.NoError(t, server.CreateDatabase(context.Background(), u.Name))
			require.NoError(t, server.CreateUser(context.Background(), u))
			t.Cleanup(func() {
				assert.NoError(t, server.DropUser(context.Background(), u))
				assert.NoError(t, server.DropDatabase(context.Background(), u.Name))
				_ = server.Close()
			})
			a := mustAccount(t, w)
			a.Databases[0].Server, a.Databases[0].Admin, a.Databases[0].Make = account.FromSites+a.Databases[0].Server, nil,
				account.ByHand
			a.Databases[0].ForSites = ""
			text, err := a.Format()
			require.NoError(t, err)
			_, err = w.Accounts.Add(a.Name, text, true, os.Getenv)
			require.NoError(t, err)
			r := h.requests[app]
			r.Answers = maps.Clone(r.Answers)
			maps.Copy(r.Answers, answer.Given{"data.from": "existing", "data.name": u.Name, "data.user": u.Name,
				"data.password": u.Password.Reveal()})
			before := w.Snapshot()
			done, err := w.Install(r)
			require.NoError(t, err, fault.Of(err).Details)
			found, err := filepath.Glob(filepath.Join(h.root, "web/lockside/*.php"))
			require.NoError(t, err)
			assert.Empty(t, found, "the helper page is gone")
			_, _, err = w.Desk.TakeBack(context.Background(), done.Job)
			require.NoError(t, err)
			sitetest.Same(t, before, w.Snapshot())
			r.Answers["data.password"] = "wrong"
			_, err = w.Install(r)
			assert.ErrorContains(t, err, "refused the user or password")
			sitetest.Same(t, before, w.Snapshot())
		})
	}
}

func mustAccount(t *testing.T, w *sitetest.World) *account.Account {
	t.Helper()
	a, err := w.Home.Account("quillmere")
	require.NoError(t, err)
	return a
}

func loginOf(d servers.Database) database.Login {
	return database.Login{Server: d.Address, User: d.User, Password: secret.Of(d.Password)}
}

// Where PHP cannot check signatures the files go one by one, and where it does
// not run at all the install ends before anything is made.
func TestPHPThatCannotCarry(t *testing.T) {
	t.Parallel()
	h := newGrounds(t, "mariadb")
	w := h.world(t, "FTPS", "mariadb")
	a := mustAccount(t, w)
	bare := servers.PHPWeb(t, []servers.Site{{Name: "lockside.localhost",
		Root: filepath.Join(h.root, "web/lockside")}}, "disable_functions = openssl_verify")
	reachedAt := func(address string) {
		_, port, _ := strings.Cut(address, ":")
		a.Domains[0].URL, a.Domains[0].Connect = "http://lockside.localhost:"+port, address
		require.NoError(t, w.Home.PutAccount(a))
	}
	reachedAt(bare)
	before := w.Snapshot()
	done, err := w.Install(h.requests["tt-rss"])
	require.NoError(t, err)
	assert.Contains(t, strings.Join(done.Warnings, "\n"), "PHP could not be looked at")
	_, _, err = w.Desk.TakeBack(context.Background(), done.Job)
	require.NoError(t, err)
	plain := httptest.NewServer(http.FileServer(http.Dir(filepath.Join(h.root, "web/lockside"))))
	t.Cleanup(plain.Close)
	reachedAt(strings.TrimPrefix(plain.URL, "http://"))
	_, err = w.Install(h.requests["tt-rss"])
	assert.ErrorContains(t, err, "PHP is not run for")
	sitetest.Same(t, before, w.Snapshot())
}
