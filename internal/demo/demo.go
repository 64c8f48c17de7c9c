package demo

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"context"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/records/home"
	"tivset/internal/records/ledger"
	"tivset/internal/records/vault"
	"tivset/internal/secret"
	"tivset/internal/standin"
)

// AccountName is the demo account's name.
const AccountName = "quillmere"

// domains are those of the made-up canal trust, in the order of the account.
var domains = []struct {
	name, folder string
	primary      bool
}{
	{"quillmere.localhost", "web/quillmere", true},
	{"lockside.localhost", "web/lockside", false},
	{"chandlery.localhost", "web/chandlery", false},
	{"slate-school.localhost", "web/slate-school", false},
}

// Demo is a running demo: the stand-in account, and a home that knows it.
type Demo struct {
	Folder  string // the home's folder: what TIVSET_HOME should be
	Home    home.Home
	Standin *standin.Account
	Domains []Domain

	Password string // of the database server's root, and of quill over SSH

	done func() // lets another demo into the folder
}

// Domain is a domain of the demo account.
type Domain struct {
	Name string `json:"name"`
	URL  string `json:"url"`
}

// state is what a demo remembers for when it is started in the same folder
// again: sites are called by addresses with ports in them.
type state struct {
	Ports    standin.Ports `json:"ports"`
	Password string        `json:"password"`
}

// Start starts the demo in a folder, new or of an earlier demo.
func Start(folder string) (*Demo, error) {
	d := &Demo{Folder: folder, Home: home.At(folder)}
	base := filepath.Join(folder, "demo")
	if names, err := d.Home.Accounts(); err != nil || len(names) > 0 && !exists(filepath.Join(base, "state.json")) {
		return nil, fault.New(fault.Usage, "accounts that are not the demo's are kept here", folder,
			"Set TIVSET_HOME to a folder of the demo's own, or to nothing.").Wrap(err)
	}
	if err := os.MkdirAll(base, 0o700); err != nil {
		return nil, err
	}
	done, err := d.Home.Alone("demo")
	if err == nil && done == nil {
		err = fault.New(fault.NeedsConfirmation, "a demo is running in this folder", folder,
			"Use that one, or end it with Ctrl-C, or set TIVSET_HOME to another folder.")
	}
	if err != nil {
		return nil, err
	}
	d.done = done
	if err := d.start(base); err != nil {
		done()
		return nil, err
	}
	return d, nil
}

// Is says whether a home is a demo's.
func Is(folder string) bool { return exists(filepath.Join(folder, "demo", "state.json")) }

// start starts its servers, at the ports of last time where they are free.
func (d *Demo) start(base string) error {
	before, err := readState(base)
	if err != nil {
		return err
	}
	options := standin.Options{Folder: base, Domains: map[string]string{}, RootPassword: before.Password, User: "quill",
		Password: before.Password, Ports: before.Ports}
	for _, x := range domains {
		options.Domains[x.name] = x.folder
	}
	if d.Standin, err = d.startAgain(options); err != nil {
		return err
	}
	d.Password = before.Password
	if err := d.prepare(base, before); err != nil {
		return errors.Join(err, d.Standin.Close())
	}
	return nil
}

// startAgain uses the ports of last time; when one is taken, free ones, unless there are sites: the ports are part of
// their addresses.
func (d *Demo) startAgain(o standin.Options) (*standin.Account, error) {
	a, err := standin.Start(o)
	if err == nil || o.Ports == (standin.Ports{}) {
		return a, err
	}
	if sites, look := d.sites(); look != nil || sites {
		return nil, fault.New(fault.Failed, "a port that sites of the demo have in their addresses is taken by another "+
			"program", d.Folder,
			"End that one, or set TIVSET_HOME to another folder for a new demo. Nothing was touched.").Wrap(err)
	}
	o.Ports = standin.Ports{}
	return standin.Start(o)
}

func exists(name string) bool {
	_, err := os.Stat(name)
	return err == nil
}

func readState(base string) (state, error) {
	var s state
	text, err := os.ReadFile(filepath.Join(base, "state.json"))
	if errors.Is(err, fs.ErrNotExist) {
		password, err := secret.Maker{}.Password(24, secret.Alnum)
		s.Password = password.Reveal()
		return s, err
	}
	if err != nil {
		return s, err
	}
	return s, json.Unmarshal(text, &s)
}

// sites says whether any is on record.
func (d *Demo) sites() (bool, error) {
	if !exists(d.Home.Ledger()) {
		return false, nil
	}
	ctx := context.Background()
	l, err := ledger.Open(ctx, d.Home.Ledger())
	if err != nil {
		return false, err
	}
	all, err := l.Sites(ctx)
	return len(all) > 0, errors.Join(err, l.Close())
}

// prepare writes everything that belongs to the demo into its home. A demo that is started again is as it was left: its
// account and its pages may have been changed, and sites stand there.
func (d *Demo) prepare(base string, before state) error {
	password := before.Password
	text, err := json.Marshal(state{d.Standin.Ports(), password})
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(base, "state.json"), text, 0o600); err != nil {
		return err
	}
	catalogue := filepath.Join(base, "catalogue")
	if err := WriteCatalogue(catalogue); err != nil {
		return err
	}
	if err := d.Home.PutCatalogues(home.Catalogues{Folders: []home.Folder{{Name: "demo",
		Folder: catalogue}}}); err != nil {
		return err
	}
	a := d.account()
	if before.Ports == d.Standin.Ports() {
		return nil
	}
	if err := d.holdingPage(); err != nil {
		return err
	}
	const password1 = AccountName + "/main"
	secrets := map[string]secret.Text{password1: secret.Of(password)}
	a.Databases[0].Admin.Password = "vault:" + password1
	if err := vault.At(d.Home.Vault(), d.Home.VaultKey()).Set(secrets); err != nil {
		return err
	}
	if err := d.Home.PutAccount(a); err != nil {
		return err
	}
	return d.Home.KeepOperator("the wharfinger")
}

func (d *Demo) account() *account.Account {
	web := d.Standin.Web.Address()
	port := d.Standin.Ports().Web
	a := &account.Account{
		Name: AccountName, Reach: "local:" + d.Standin.Root, Store: account.DefaultStore,
		Databases: []account.Database{{
			Name: "main", Engine: "mariadb", Server: d.Standin.Database.Address(), ForSites: d.Standin.Database.Address(),
			Admin: &account.Login{User: "root"}, Prefix: "quill_",
		}},
		Mail: &account.Mail{Server: d.Standin.Mail.Address(), From: "hosting@quillmere.localhost"},
	}
	for _, x := range domains {
		url := fmt.Sprintf("http://%s:%d", x.name, port)
		a.Domains = append(a.Domains, account.Domain{Name: x.name, Folder: x.folder, URL: url, Connect: web,
			Primary: x.primary})
		d.Domains = append(d.Domains, Domain{x.name, url})
	}
	return a
}

// holdingPage puts the page in the way that many hosts put there.
func (d *Demo) holdingPage() error {
	name := filepath.Join(d.Standin.Root, domains[0].folder, "index.html")
	if exists(name) {
		return nil
	}
	return os.WriteFile(name, []byte(holding), 0o644)
}

const holding = `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><title>Quillmere Canal Trust</title>
<style>body{margin:0;display:grid;place-items:center;height:100vh;background:#e7eef0;color:#20414d;font:20px/1.5 "DejaVu Serif",Georgia,serif;text-align:center}</style></head>
<body><div><h1>Quillmere Canal Trust</h1><p>Our pages are being painted. Come back when they are dry.</p></div></body></html>
`

// Close ends the servers; what is in the folder stays.
func (d *Demo) Close() error {
	d.done()
	return d.Standin.Close()
}
