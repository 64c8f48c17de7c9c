// Package sitetest sets up whole worlds for tests of the use cases: an account
// with its servers, a service that works on it, and ways to make any call fail.
package sitetest

import (
	"context"
	"maps"
	"net"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/fill"
	"tivset/internal/core"
	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/local"
	"tivset/internal/hosting/reach"
	"tivset/internal/hosting/runtime"
	"tivset/internal/hosting/ssh"
	"tivset/internal/hosting/web"
	"tivset/internal/notify/mail"
	"tivset/internal/plan"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/team"
	"tivset/internal/records/vault"
	"tivset/internal/screen"
	"tivset/internal/standin/pages"
	"tivset/internal/trial/servers"
	"tivset/internal/work"
	"tivset/internal/work/install"
)

// Hashes are most of what an install of a demo app computes.
func init() {
	fill.CheapHashes()
	pages.CheapHashes()
}

// World is an account and a service that works on it.
type World struct {
	T    *testing.T
	Home home.Home
	Root string     // the account's folder on this machine
	Demo *demo.Demo // nil when the account is no stand-in
	Real *servers.Database
	*core.Core
	Trip *FaultInjector
	// Instead, if not nil, gives the status that is answered in place of the stand-in's; 0 for that
	Instead func(*http.Request) int
	Reach   *reach.Reach

	source catalogue.Source
	vault  *vault.Vault // without the calls that fail
	team   *team.Team   // nil while the records are files
	Team   string       // its fingerprint
}

// Demo sets up the demo account.
func Demo(t *testing.T) *World {
	t.Helper()
	d, err := demo.Start(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = d.Close() })
	w := &World{T: t, Home: d.Home, Root: d.Standin.Root, Demo: d}
	w.proxy()
	w.serve(catalogue.Source{Name: "demo", Files: os.DirFS(d.Folder + "/demo/catalogue")})
	return w
}

// DemoOn sets up the demo account with a real database server in place of the
// stand-in's.
func DemoOn(t *testing.T, d servers.Database) *World {
	t.Helper()
	w := Demo(t)
	w.Real = &d
	w.EditAccount(func(a *account.Account) {
		a.Databases[0].Server, a.Databases[0].ForSites = d.Address, d.Address
		a.Databases[0].Admin.Password = "plain:" + d.Password
	})
	return w
}

// Local sets up an account from its file, with kits of a source.
func Local(t *testing.T, root, file string, source catalogue.Source) *World {
	t.Helper()
	w := &World{T: t, Home: home.At(t.TempDir()), Root: root}
	w.serve(source)
	a, err := account.Parse([]byte(file))
	require.NoError(t, err)
	_, err = w.Accounts.Add(a.Name, []byte(file), false, os.Getenv)
	require.NoError(t, err)
	return w
}

// EditAccount changes the account and adds it again.
func (w *World) EditAccount(edit func(*account.Account)) {
	w.T.Helper()
	a, err := w.Home.Account(demo.AccountName)
	require.NoError(w.T, err)
	edit(a)
	text, err := a.Format()
	require.NoError(w.T, err)
	_, err = w.Accounts.Add(a.Name, text, true, os.Getenv)
	require.NoError(w.T, err, "%v", fault.Of(err))
}

// proxy puts a web server between the service and the stand-in's, whose
// answers can be made to fail.
func (w *World) proxy() {
	w.Trip = &FaultInjector{}
	target, err := url.Parse("http://" + w.Demo.Standin.Web.Address())
	require.NoError(w.T, err)
	forward := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(target)
		r.Out.Host = r.In.Host
	}}
	s := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if w.Trip.Fails("web " + r.Method) {
			panic(http.ErrAbortHandler)
		}
		if w.Instead != nil {
			if status := w.Instead(r); status != 0 {
				http.Error(rw, "something else", status)
				return
			}
		}
		forward.ServeHTTP(rw, r)
	}))
	w.T.Cleanup(s.Close)
	a, err := w.Home.Account(demo.AccountName)
	require.NoError(w.T, err)
	for i := range a.Domains {
		a.Domains[i].Connect = strings.TrimPrefix(s.URL, "http://")
	}
	require.NoError(w.T, w.Home.PutAccount(a))
}

func (w *World) serve(source catalogue.Source) {
	l, err := ledger.Open(context.Background(), w.Home.Ledger())
	require.NoError(w.T, err)
	w.T.Cleanup(func() { _ = l.Close() })
	w.source = source
	w.on(team.Place{Ledger: l, Home: w.Home, Vault: vault.At(w.Home.Vault(), w.Home.VaultKey()),
		Journals: job.Files(w.Home.Journals())})
}

// on has the world work with the records of a place.
func (w *World) on(p team.Place) {
	w.Home = p.Home
	if w.Trip == nil {
		w.Trip = &FaultInjector{}
	}
	v := p.Vault
	w.vault = v
	w.Reach = &reach.Reach{Vault: v, Hosts: &ssh.Hosts{Own: w.Home.KnownHosts()},
		Certificates: &certificates.Known{Own: w.Home.KnownCertificates()}}
	w.Core = core.In(core.World{
		Runtimes: runtime.Set{demo.Pages{}},
		Home:     w.Home, Catalogue: catalogue.New(w.source), Vault: &vaultWrap{v, w.Trip},
		Ledger: wrapped(p.Ledger, w.Trip), Journals: &shelfWrap{p.Journals, w.Trip},
		Now: time.Now, Who: "a test", Settle: time.Second, Patience: 5 * time.Second,
		Download: http.DefaultClient, SendMail: spelled,
		Certified: hosting.Certified, TakesMail: func(context.Context, string) error { return nil },
		Forget: w.Reach.Forget,
		OpenFiles: func(ctx context.Context, a *account.Account) (files.Closer, error) {
			f, err := w.Reach.Files(ctx, a)
			if err != nil {
				return nil, err
			}
			if onDisk, ok := f.(*local.FS); ok {
				return &filesWrap{onDisk, w.Trip}, nil
			}
			return f, nil
		},
		OpenServer: func(ctx context.Context, a *account.Account, d *account.Database, l database.Login) (database.Server,
			error) {
			if w.Trip.Fails("connect") {
				return nil, database.ErrGone
			}
			s, err := w.Reach.Server(ctx, a, d, l)
			if err != nil {
				return nil, err
			}
			return &serverWrap{s, w.Trip}, nil
		},
		OpenSession: func(ctx context.Context, a *account.Account, d *account.Database, l database.Login) (database.Session,
			error) {
			if w.Trip.Fails("open database") {
				return nil, database.ErrGone
			}
			s, err := w.Reach.Session(ctx, a, d, l)
			if err != nil {
				return nil, err
			}
			return &sessionWrap{s, w.Trip}, nil
		},
	})
}

// Snapshot lists the whole account: files with modes and checksums, databases,
// users, grants.
func (w *World) Snapshot() string {
	w.T.Helper()
	if w.Real == nil && w.Demo != nil {
		s, err := demo.Snapshot(w.Demo)
		require.NoError(w.T, err)
		return s
	}
	var out strings.Builder
	require.NoError(w.T, demo.Tree(&out, w.Root))
	if w.Real == nil {
		return out.String()
	}
	return out.String() + strings.Join(w.Real.Catalogue(w.T), "\n")
}

// Request is an install of one of the demo apps, with all that it needs.
func Request(app, at string) plan.Request {
	r := plan.Request{App: app, At: at, Answers: answer.Given{
		"title": `Lock "Talk" & 'co' \ $x`, "subtitle": `${HOME} ; # <b>`, "admin.name": "wharfinger",
		answer.AdminEmail: "wharfinger@lockside.localhost", "licence": "accept",
	}}
	maps.Copy(r.Answers, choices[app])
	return r
}

// Key and MailPassword are the secrets among the answers to Towline's questions.
const (
	Key          = "T3RN-0W1N-DL4S-S9QX"
	MailPassword = `p'a"s\s $x ${y} <%> ;#`
)

// choices are answers to the apps' own questions, as awkward as can be.
var choices = map[string]answer.Given{
	"pennywharf": {"title": `Lock "Talk" & 'co' $x`, "sells-as": "company", "company": `Rope "& Paint" #1; $5`,
		"tax-number": "QM12345678",
		"payments":   "transfer,invoice", "orders-to": "orders@chandlery.localhost",
		"terms": "https://chandlery.localhost/terms?a=b&c=d", "extra.sample": "yes", "extra.theme": "slate"},
	"slateroom": {"introduction": "Come in.\n\nSit \"down\", \\ and </script> wait.", "seats": "9", "open": "yes",
		"extra.languages":     "de, nl",
		answer.AdminFirstName: "Ada", answer.AdminLastName: "O'Lock", "support.email": "desk@slate-school.localhost"},
	"lampshelf": {"extra.theme": "dawn", "extra.sample": "no", "extra.search-engines": "no", "downloads": "yes"},
	"towline": {"edition": "pro", "key": Key, "greeting": "Ahoy:\n- one\n# two", "website": "https://lockside.localhost/",
		"mail-in":      "yes",
		"mail-address": "help@lockside.localhost", "mail-password": MailPassword, "extra.extensions": "calendar"},
}

// Install plans and installs.
func (w *World) Install(r plan.Request) (*work.Done, error) {
	return w.InstallIn(context.Background(), r)
}

// InstallIn does so within a context that may end.
func (w *World) InstallIn(ctx context.Context, r plan.Request) (*work.Done, error) {
	p, err := w.Planner.Plan(ctx, r)
	if err != nil {
		return nil, err
	}
	return install.Install(ctx, w.Desk, p)
}

// Visitor is somebody with a browser, who finds the account's domains.
func (w *World) Visitor() *web.Visitor {
	w.T.Helper()
	a, err := w.Home.Account(demo.AccountName)
	require.NoError(w.T, err)
	connections := web.Connections{}
	for _, d := range a.Domains {
		connections[strings.TrimPrefix(d.URL, "http://")] = d.Connect
	}
	return web.NewVisitor(connections)
}

// Fetch gets a page of the account's sites as a visitor does.
func (w *World) Fetch(address string) string {
	w.T.Helper()
	page, err := w.Visitor().Get(context.Background(), address)
	require.NoError(w.T, err)
	return string(page.Body)
}

// SignIn sends the form of a page and gives what comes back.
func (w *World) SignIn(address string, fields map[string]string) string {
	w.T.Helper()
	v := w.Visitor()
	page, err := v.Get(context.Background(), address)
	require.NoError(w.T, err)
	form, err := page.Form(slices.Collect(maps.Keys(fields)))
	require.NoError(w.T, err)
	for name, value := range fields {
		form.Values.Set(name, value)
	}
	page, err = v.Post(context.Background(), form.Action, form.Values)
	require.NoError(w.T, err)
	return string(page.Body)
}

// spelled sends a mail as the program does, with the calls in it spelled.
func spelled(ctx context.Context, server mail.Server, m mail.Message) error {
	m.Text = screen.Spelled(m.Text)
	return mail.Send(ctx, server, m)
}

// Dialing finds hosts where an account's domains are.
func Dialing(to web.Connections) http.RoundTripper {
	return &http.Transport{DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
		if at, known := to[address]; known {
			address = at
		}
		return (&net.Dialer{}).DialContext(ctx, network, address)
	}}
}
