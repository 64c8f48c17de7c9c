package site

import (
	"context"
	"errors"
	"io/fs"
	"net/url"
	"path"
	"slices"
	"strings"
	"time"

	"tivset/internal/answer"
	"tivset/internal/app/catalogue"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/vault"
)

// Book is where sites are on record: their accounts, their kits, the ledger and
// the vault together.
type Book struct {
	Home      home.Home
	Catalogue *catalogue.Catalogue
	Ledger    ledger.Ledger
	Journals  job.JournalStore
	Vault     vault.Keeper
	Now       func() time.Time
}

// Account finds the account to use: the one named; else the only one; else the
// one that has the address's domain.
func (b *Book) Account(name, address string) (*account.Account, error) {
	if name != "" {
		return b.Home.Account(name)
	}
	names, err := b.Home.Accounts()
	if err != nil {
		return nil, err
	}
	switch len(names) {
	case 0:
		return nil, NoAccount()
	case 1:
		return b.Home.Account(names[0])
	}
	var fits []*account.Account
	for _, n := range names {
		a, err := b.Home.Account(n)
		if err != nil {
			return nil, err
		}
		if _, err := place.Resolve(address, a.Domains); err == nil {
			fits = append(fits, a)
		}
	}
	switch len(fits) {
	case 0:
		return nil, fault.New(fault.Usage, "no account has a domain of this address", address,
			"See the accounts and their domains: "+fault.Call("account", "list"))
	case 1:
		return fits[0], nil
	}
	return nil, fault.NewAs(fault.Ambiguous, fault.Usage, "several accounts could be meant", address,
		"Say which with --account: "+strings.Join(names, ", ")+".")
}

// NoAccount is the fault of a machine that knows no account.
func NoAccount() error {
	return fault.NewAs(fault.NoAccount, fault.Usage, "there is no account yet", "",
		"Add one with: "+fault.Call("account", "add", "NAME")+", which asks. To try Tivset without one: "+fault.Call("demo"))
}

// Resolve finds the place of an address. One given with https:// where the
// account has http:// is for the certificate to decide.
func Resolve(address string, domains []account.Domain) (place.Place, error) {
	at, err := place.Resolve(address, domains)
	if err == nil || !strings.HasPrefix(address, "https://") {
		return at, err
	}
	bare, errBare := place.Resolve(strings.TrimPrefix(address, "https://"), domains)
	if errBare != nil || bare.Domain.Connect != "" || bare.Domain.URL != "http://"+bare.Domain.Name {
		return at, err
	}
	return bare, nil
}

// Find finds a recorded site by what somebody calls it. A word that means none,
// or several, is a usage fault; so is one that means an address which leads to
// another now.
func (b *Book) Find(ctx context.Context, word string) (ledger.Site, error) {
	addresses, err := b.Ledger.Addresses(ctx)
	if err != nil {
		return ledger.Site{}, err
	}
	if r, err := b.Leading(ctx, word, addresses); err != nil {
		return ledger.Site{}, err
	} else if r != nil {
		return ledger.Site{}, Leads(*r)
	}
	address, err := place.Match(word, addresses)
	if err != nil {
		return ledger.Site{}, err
	}
	found, err := b.Ledger.Site(ctx, address)
	b.FillIn(&found)
	return found, err
}

// Knows says whether a word can mean a recorded site at all.
func (b *Book) Knows(ctx context.Context, word string) (bool, error) {
	addresses, err := b.Ledger.Addresses(ctx)
	if err != nil {
		return false, err
	}
	leads, err := b.Leading(ctx, word, addresses)
	return leads != nil || len(place.Fits(word, addresses)) > 0, err
}

// All lists the recorded sites.
func (b *Book) All(ctx context.Context) ([]ledger.Site, error) {
	all, err := b.Ledger.Sites(ctx)
	n := b.news()
	for i := range all {
		n.tell(&all[i])
	}
	return all, err
}

// KindOf says what an app is for; "" where this machine has no kit of it.
func (b *Book) KindOf(app string) string {
	entry, err := b.Catalogue.Find(app)
	if err != nil {
		return ""
	}
	return entry.Kind
}

// FillIn adds what is not recorded but found out when a site is shown.
func (b *Book) FillIn(r *ledger.Site) { b.news().tell(r) }

// From makes a site of its record: with its kit, its account and its secrets.
func (b *Book) From(x ledger.Site) (*Site, error) {
	a, err := b.Home.Account(x.Account)
	if err != nil {
		return nil, err
	}
	return b.in(x, a)
}

// Was makes a site of a record that is older than what the account has now, a
// backup's say: for what its configuration held then. An account, a domain and a
// server that are not there any more are made up from the record.
func (b *Book) Was(x ledger.Site) (*Site, error) {
	then := account.Account{Name: x.Account}
	if a, err := b.Home.Account(x.Account); err == nil {
		then = *a
	}
	if _, err := Resolve(x.URL, then.Domains); err != nil {
		at, err := url.Parse(x.URL)
		if err != nil {
			return nil, err
		}
		then.Domains = append(slices.Clone(then.Domains), account.Domain{Name: at.Hostname(),
			URL: at.Scheme + "://" + at.Host, Folder: strings.TrimSuffix(x.Folder, strings.TrimSuffix(at.Path, "/"))})
	}
	if d := x.Database; d != nil && then.Database(d.Server, d.Engine) == nil {
		then.Databases = append(slices.Clone(then.Databases), account.Database{Name: d.Server, Engine: d.Engine})
	}
	return b.in(x, &then)
}

func (b *Book) in(x ledger.Site, a *account.Account) (*Site, error) {
	entry, err := b.Catalogue.Find(x.App)
	if err != nil {
		return nil, err
	}
	s := &Site{Kit: entry, In: a, App: x.App, Title: entry.Title, Release: x.Release, Archive: x.Archive,
		Account: x.Account, Care: x.Care, Labels: x.Labels,
		Answers: answer.Given{}, Admin: Admin{Name: x.Admin.Name, Email: x.Admin.Email},
		Face:  Branding{Title: x.Title, Language: x.Language, Asked: []Told{}, Extras: []Told{}},
		Place: Place{URL: x.URL, Folder: x.Folder, DataFolder: x.DataFolder}}
	if s.Of = entry.Past(x.Release); s.Of == nil {
		return nil, fault.NewAs(fault.NoKit, fault.Usage, "the kit of "+entry.Title+" does not know this release any more",
			x.Release+" of "+x.Address, "Add the catalogue that it came from.")
	}
	if s.At, err = Resolve(x.URL, a.Domains); err != nil {
		f := *fault.Of(err)
		f.Remedy += " If the site has another address now, forget this one and adopt that: " +
			fault.Call("forget", x.Address, "--anyway") + "; " + fault.Call("adopt", "ADDRESS")
		return nil, &f
	}
	if entry.Place.AdminFolder != "" {
		s.Place.AdminFolder = AdminFolder(x)
	}
	for _, c := range x.Chosen {
		s.Answers[c.ID] = c.Answer
		if text := s.remembered()[c.ID]; text != nil {
			*text = c.Answer
		}
	}
	if d := x.Database; d != nil {
		s.Data = &Data{From: d.From, Engine: d.Engine, Server: d.Server, Name: d.Name, User: d.User, Tables: d.Tables}
		if s.Server = a.Database(d.Server, d.Engine); s.Server == nil {
			return nil, hosting.NoServer(d.Server, x.Address)
		}
	}
	s.Secrets, err = b.secretsOf(s, x.Address)
	return s, err
}

// remembered are the answers that configuration may hold and that a site's
// record has no field for.
func (s *Site) remembered() map[string]*string {
	return map[string]*string{answer.Subtitle: &s.Face.Subtitle, answer.AdminFirstName: &s.Admin.First,
		answer.AdminLastName: &s.Admin.Last, "support.email": &s.Admin.Support}
}

// AdminFolder is the name that the folder of a recorded site's admin area has.
func AdminFolder(x ledger.Site) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(x.AdminURL, x.URL), "/")
	return name
}

// WellKnown is the folder in which hosts prove to those who sign certificates
// that a domain is theirs (RFC 8615); it stays where it is.
const WellKnown = ".well-known"

// Others lists the folders at or below a folder of an account that belong to
// somebody else: recorded sites, addresses that lead to where sites moved, the
// document roots of other domains, the account's store.
func (b *Book) Others(ctx context.Context, a *account.Account, folder string) (files.Others, error) {
	sites, err := b.Ledger.Sites(ctx)
	var out files.Others
	for _, other := range sites {
		if other.Account == a.Name && other.Folder != folder && files.Within(other.Folder, folder) {
			out = append(out, other.Folder)
		}
	}
	leading, errLeading := b.Ledger.Redirects(ctx)
	for _, r := range leading {
		if r.Account == a.Name && r.Folder != folder && files.Within(r.Folder, folder) {
			out = append(out, r.Folder)
		}
	}
	for _, d := range a.Domains {
		if d.Folder != folder && files.Within(d.Folder, folder) {
			out = append(out, d.Folder)
		}
	}
	if files.Within(a.Store, folder) {
		out = append(out, a.Store)
	}
	return out, errors.Join(err, errLeading)
}

// Foreign lists what lies below a site's folder and belongs to others, with what
// hosts put there.
func (b *Book) Foreign(ctx context.Context, s *Site) (files.Others, error) {
	others, err := b.Others(ctx, s.In, s.Place.Folder)
	return append(others, path.Join(s.Place.Folder, WellKnown)), err
}

// Has says whether a site is recorded at an address.
func (b *Book) Has(ctx context.Context, address string) (bool, error) {
	_, err := b.Ledger.Site(ctx, address)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// Leading gives the redirect that somebody means by a word, and none of the sites;
// nil for none.
func (b *Book) Leading(ctx context.Context, word string, sites []string) (*ledger.Redirect, error) {
	all, err := b.Ledger.Redirects(ctx)
	if err != nil || len(all) == 0 {
		return nil, err
	}
	for _, r := range all {
		sites = append(sites, r.Address)
	}
	fits := place.Fits(word, sites)
	i := slices.IndexFunc(all, func(r ledger.Redirect) bool { return len(fits) == 1 && r.Address == fits[0] })
	if i < 0 {
		return nil, nil
	}
	return &all[i], nil
}

// LeadsElsewhere gives the redirect that has a place: its address, or its folder in
// the account; nil for none.
func (b *Book) LeadsElsewhere(ctx context.Context, account, address, folder string) (*ledger.Redirect, error) {
	all, err := b.Ledger.Redirects(ctx)
	i := slices.IndexFunc(all, func(r ledger.Redirect) bool {
		return r.Account == account && (r.Address == address || r.Folder == folder)
	})
	if i < 0 {
		return nil, err
	}
	return &all[i], nil
}

// Leads is the fault of an address that leads to where its site is now.
func Leads(r ledger.Redirect) error {
	return fault.New(fault.Usage, "this address leads to a site that moved: "+r.To, r.Address,
		"To have the place again: "+fault.Call("free", r.Address))
}

// Made says whether a site of an app was made of an archive, by its checksum.
func (b *Book) Made(ctx context.Context, app, sum string) bool {
	all, err := b.Ledger.Sites(ctx)
	return err == nil && slices.ContainsFunc(all, func(x ledger.Site) bool { return x.App == app && x.Archive == sum })
}
