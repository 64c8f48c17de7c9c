// Package site holds the use cases: installing an app and, later in its life,
// everything else that happens to a site. Each builds a list of steps and
// hands it to package job. It knows no terminal.
package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"strings"
	"time"

	"tivset/internal/answer"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/fill"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
	"tivset/internal/hosting/web"
	"tivset/internal/mail"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/vault"
	"tivset/internal/secret"
)

// Service carries out the use cases. All of its fields are given by main.
type Service struct {
	Home      home.Home
	Catalogue *catalogue.Catalogue
	Ledger    ledger.Ledger
	Vault     *vault.Vault
	Maker     secret.Maker
	Now       func() time.Time
	Who       string // user and machine, for others who find a job under way
	Progress  func(job.Event)
	Settle    time.Duration // for how long a check of a new site tries again
	Patience  time.Duration // for how long an undo waits for a server that went away

	Download *http.Client // fetches archives
	SendMail func(ctx context.Context, server string, m mail.Message) error

	Certified func(ctx context.Context, name, address string) (until time.Time, err error) // until when a server's certificate is good, or why it does not verify
	TakesMail func(ctx context.Context, domain string) error                               // why a domain cannot receive mail

	Crontab func(ctx context.Context, input string, args ...string) ([]byte, error) // this machine's; its error holds what it said

	Forget      func(account string) // ends what is open of an account whose description changed
	OpenFiles   func(context.Context, *account.Account) (files.Closer, error)
	OpenServer  func(context.Context, *account.Account, *account.Database, database.Login) (database.Server, error)
	OpenSession func(context.Context, *account.Account, *account.Database, database.Login) (database.Session, error)
}

// The usual values of Settle and Patience.
const (
	UsualSettle   = 6 * time.Second
	UsualPatience = 30 * time.Second
)

// account finds the account to use: the one named; else the only one; else the
// one that has the address's domain.
func (s *Service) account(name, address string) (*account.Account, error) {
	if name != "" {
		return s.Home.Account(name)
	}
	names, err := s.Home.Accounts()
	if err != nil {
		return nil, err
	}
	switch len(names) {
	case 0:
		return nil, noAccount()
	case 1:
		return s.Home.Account(names[0])
	}
	var fits []*account.Account
	for _, n := range names {
		a, err := s.Home.Account(n)
		if err != nil {
			return nil, err
		}
		if _, err := place.Resolve(address, a.Domains); err == nil {
			fits = append(fits, a)
		}
	}
	if len(fits) == 1 {
		return fits[0], nil
	}
	return nil, fault.New(fault.Usage, "several accounts could be meant", address, "Say which with --account: "+strings.Join(names, ", ")+".")
}

// Look is what is to be known of a place before anything goes there.
type Look struct {
	URL      string
	Domain   string
	Folder   string
	InTheWay []string // what is there, with size and date
	Main     bool     // it is the root of the account's main site
	Warnings []string // what owners are surprised by later
}

// LookAt looks at an address of a request. An address that will not do, and
// one where a site is already, are faults.
func (s *Service) LookAt(ctx context.Context, r Request) (Look, error) {
	a, err := s.account(r.Account, r.At)
	if err != nil {
		return Look{}, err
	}
	p := &Plan{account: a, Account: a.Name, answers: answer.Given{"occupied": setAsideAnswer}}
	if p.place, err = resolve(r.At, a.Domains); err != nil {
		return Look{}, err
	}
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		return Look{}, unreachable(a, err)
	}
	defer fsys.Close()
	if err := s.lookAtPlace(ctx, p, fsys); err != nil {
		return Look{}, err
	}
	d := p.place.Domain
	look := Look{URL: p.Place.URL, Domain: d.Name, Folder: p.Place.Folder, InTheWay: p.inTheWay, Main: d.Primary && p.place.Dir == ""}
	look.Warnings, err = s.traps(ctx, p)
	return look, err
}

// Site finds a recorded site by what somebody calls it.
func (s *Service) Site(ctx context.Context, word string) (ledger.Site, error) {
	addresses, err := s.Ledger.Addresses(ctx)
	if err != nil {
		return ledger.Site{}, err
	}
	address, err := place.Match(word, addresses)
	if err != nil {
		return ledger.Site{}, err
	}
	found, err := s.Ledger.Site(ctx, address)
	s.fillIn(&found)
	return found, err
}

// Sites lists the recorded sites.
func (s *Service) Sites(ctx context.Context) ([]ledger.Site, error) {
	all, err := s.Ledger.Sites(ctx)
	n := s.news()
	for i := range all {
		n.tell(&all[i])
	}
	return all, err
}

// fillIn adds what is not recorded but found out when a site is shown.
func (s *Service) fillIn(r *ledger.Site) { s.news().tell(r) }

// Credentials are what somebody needs to sign in.
type Credentials struct {
	Site     ledger.Site
	Password secret.Text // the admin's
	Data     secret.Text // the database user's
	Others   []Other     // keys that were given, and addresses with keys in them
}

// Other is a further secret of a site.
type Other struct {
	Name  string
	Value secret.Text
}

// Reveal reads a site's passwords from the vault.
func (s *Service) Reveal(ctx context.Context, word string) (Credentials, error) {
	found, err := s.Site(ctx, word)
	if err != nil {
		return Credentials{}, err
	}
	c := Credentials{Site: found}
	if c.Password, err = s.Vault.Get(vaultName(found.Address, adminPassword)); err != nil {
		return c, fault.New(fault.Usage, "the vault has no password of this site", found.Address, "Set a new one in the site's own pages.").Because(err)
	}
	c.Data, err = s.Vault.Get(vaultName(found.Address, dataPassword))
	if err != nil && !errors.Is(err, fs.ErrNotExist) { // a site without a database has none
		return c, err
	}
	c.Others, err = s.otherSecrets(found)
	return c, err
}

// otherSecrets reads what else the vault keeps of a site, as far as its kit names it.
func (s *Service) otherSecrets(found ledger.Site) ([]Other, error) {
	e, err := s.Catalogue.Find(found.App)
	if err != nil {
		return nil, nil // without the kit nobody knows their names
	}
	var out []Other
	values := fill.Values{"url": found.URL}
	for _, name := range e.VaultNames() {
		kept, err := s.Vault.Get(vaultName(found.Address, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		values[name] = kept.Reveal()
		if q := e.Question(strings.TrimPrefix(name, "ask.")); q != nil {
			out = append(out, Other{q.Ask, kept})
		}
	}
	for _, t := range e.Timers {
		if page, err := fill.Text(t.Get, values); err == nil && t.Get != "" {
			out = append(out, Other{"Timer, every " + interval(t.Every), secret.Of(found.URL + page)})
		}
	}
	return out, nil
}

// The names of a site's secrets in the vault, below sites/ADDRESS/.
const (
	adminPassword = "admin.password"
	dataPassword  = "data.password"
)

func vaultName(address, name string) string { return "sites/" + address + "/" + name }

// databaseLogin is how to sign in to a server as the one who may create.
func (s *Service) databaseLogin(d *account.Database) (database.Login, error) {
	if d.Engine == account.SQLite || d.Make == account.Helper {
		return database.Login{Server: d.Server}, nil
	}
	if d.Admin == nil {
		return database.Login{}, fault.New(fault.Usage, "nobody may create databases on "+d.Name, "", "Choose one that is there (data.from=existing), or make it by hand (data.from=by-hand).")
	}
	l := database.Login{Server: d.Server, User: d.Admin.User}
	if d.Admin.Password == "" {
		return l, nil
	}
	name, ok := strings.CutPrefix(d.Admin.Password, "vault:")
	if !ok {
		return l, fault.New(fault.Usage, "the password of the server "+d.Name+" is not in the vault", "", "Add the account again: tivset account add NAME --from FILE --replace")
	}
	var err error
	if l.Password, err = s.Vault.Get(name); err != nil {
		return l, fmt.Errorf("the password of the server %s: %w", d.Name, err)
	}
	return l, nil
}

// connect signs in to a server as the one who may create.
func (s *Service) connect(ctx context.Context, a *account.Account, d *account.Database) (database.Server, error) {
	login, err := s.databaseLogin(d)
	if err != nil {
		return nil, err
	}
	return s.OpenServer(ctx, a, d, login)
}

// connections says where to find the account's domains.
func connections(a *account.Account) web.Connections {
	c := web.Connections{}
	for _, d := range a.Domains {
		if d.Connect == "" {
			continue
		}
		scheme, host, _ := strings.Cut(d.URL, "://")
		if !strings.Contains(host, ":") {
			host += map[string]string{"http": ":80", "https": ":443"}[scheme]
		}
		c[host] = d.Connect
	}
	return c
}
