package plan

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/question"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

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
func (pl *Planner) LookAt(ctx context.Context, r Request) (Look, error) {
	return pl.lookAt(ctx, r, true)
}

// lookAt looks at an address; what is in the way is a fault unless it is to be set aside.
func (pl *Planner) lookAt(ctx context.Context, r Request, aside bool) (Look, error) {
	a, err := pl.Book.Account(r.Account, r.At)
	if err != nil {
		return Look{}, err
	}
	at, err := site.Resolve(r.At, a.Domains)
	if err != nil {
		return Look{}, err
	}
	in, err := pl.Hosting.Open(ctx, a)
	if err != nil {
		return Look{}, err
	}
	defer in.Close()
	spot, err := pl.lookAtPlace(ctx, in, at, aside, r.Carried)
	if err != nil {
		return Look{}, err
	}
	look := Look{URL: at.URL(), Domain: at.Domain.Name, Folder: at.Folder(), InTheWay: spot.inTheWay,
		Main: at.Domain.Primary && at.Dir == ""}
	look.Warnings, err = pl.traps(ctx, a, at)
	return look, err
}

// InTheWay lists what would be in the way of an install at a place where no site
// is, from the account's top.
func (pl *Planner) InTheWay(ctx context.Context, a *account.Account, url string) ([]string, error) {
	at, err := site.Resolve(url, a.Domains)
	if err != nil {
		return nil, err
	}
	in, err := pl.Hosting.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	spot, err := pl.lookAtPlace(ctx, in, at, true, nil)
	return spot.setAside, err
}

// Spot is a domain of an account and what is at its root now.
type Spot struct {
	Account string
	Domain  string
	URL     string
	State   string // for people: empty, a site of ours, what lies there
	Free    bool   // whether an app can go to its root
	Primary bool   // it is the account's main site
	Below   int    // how many of our sites are below it
}

// Spots lists the domains to choose from: of one account, or of all.
func (pl *Planner) Spots(ctx context.Context, name string) ([]Spot, error) {
	names := []string{name}
	if name == "" {
		var err error
		if names, err = pl.Book.Home.Accounts(); err != nil {
			return nil, err
		}
		if len(names) == 0 {
			return nil, site.NoAccount()
		}
	}
	sites, err := pl.Book.Ledger.Sites(ctx)
	if err != nil {
		return nil, err
	}
	var out []Spot
	for _, n := range names {
		a, err := pl.Book.Home.Account(n)
		if err != nil {
			return nil, err
		}
		spots, err := pl.spotsOf(ctx, a, sites)
		if err != nil {
			return nil, err
		}
		out = append(out, spots...)
	}
	return out, nil
}

func (pl *Planner) spotsOf(ctx context.Context, a *account.Account, sites []ledger.Site) ([]Spot, error) {
	in, err := pl.Hosting.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	var out []Spot
	for _, d := range a.Domains {
		spot := Spot{Account: a.Name, Domain: d.Name, URL: d.URL, Primary: d.Primary}
		inside, err := in.Files.List(ctx, d.Folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, in.Unreachable(err)
		}
		ours := func(i files.Info) bool {
			return slices.ContainsFunc(sites, func(x ledger.Site) bool {
				return x.Account == a.Name && x.Folder == path.Join(d.Folder, i.Name)
			})
		}
		spot.State, spot.Free = holding(slices.DeleteFunc(inside, ours))
		if err != nil {
			spot.State, spot.Free = "its folder is not there", false
		}
		out = append(out, withSites(spot, a, d, sites))
	}
	return out, nil
}

// holding words what lies in a document root.
func holding(inside []files.Info) (state string, free bool) {
	inside = slices.DeleteFunc(inside, func(i files.Info) bool { return i.Name == site.WellKnown })
	switch {
	case len(inside) == 0:
		return "empty", true
	case len(inside) == 1 && strings.HasPrefix(inside[0].Name, "index."):
		return "a single page, " + inside[0].Name, false
	case len(inside) == 1:
		return "holds " + inside[0].Name, false
	}
	return fmt.Sprintf("holds %d files and folders, such as %s", len(inside), inside[0].Name), false
}

// withSites says which of our sites are on the domain.
func withSites(spot Spot, a *account.Account, d account.Domain, sites []ledger.Site) Spot {
	for _, x := range sites {
		if x.Account != a.Name || !files.Within(x.Folder, d.Folder) {
			continue
		}
		if x.Folder == d.Folder {
			spot.State, spot.Free = "“"+x.Title+"” ("+x.App+")", false
			continue
		}
		spot.Below++
	}
	if spot.Below == 1 {
		spot.State += ", one site below it"
	} else if spot.Below > 1 {
		spot.State += fmt.Sprintf(", %d sites below it", spot.Below)
	}
	return spot
}

// asking works out what a request can be told. App and address must be known.
func (pl *Planner) asking(r Request) (*question.Asking, error) {
	k, err := pl.Book.Catalogue.Find(r.App)
	if err != nil {
		return nil, err
	}
	a, err := pl.Book.Account(r.Account, r.At)
	if err != nil {
		return nil, err
	}
	at, err := site.Resolve(r.At, a.Domains)
	if err != nil {
		return nil, err
	}
	if r.Release != "" && k.Find(r.Release) == nil {
		return nil, fault.New(fault.Usage, k.Title+" has no release "+r.Release, "release", "There are "+
			strings.Join(k.Versions(), ", ")+".")
	}
	usual, err := pl.Book.Home.DefaultCare()
	if err != nil {
		return nil, err
	}
	return &question.Asking{Kit: k.Kit, Release: question.ChooseRelease(k.Kit, r.Release), Account: a, Given: r.Answers,
		Domain: at.Domain.Name, Dir: at.Dir, Proposed: r.Proposed, Care: usual}, nil
}

// Questions lists the questions that apply to a request as far as it is
// answered, with what holds now. Answers that no question asks for are a fault.
func (pl *Planner) Questions(r Request) ([]question.Asked, error) {
	a, err := pl.asking(r)
	if err != nil {
		return nil, err
	}
	return a.Open()
}

// dataOf reads what a request says of its database.
func (pl *Planner) dataOf(r Request) (dataAsked, error) {
	a, err := pl.asking(r)
	if err != nil {
		return dataAsked{}, err
	}
	settled := a.Settled()
	if g := a.GivenData(); g != nil {
		password, err := pl.Book.Vault.Get(strings.TrimPrefix(g.Password, "vault:"))
		if err != nil {
			return dataAsked{}, err
		}
		settled[answer.DataPassword] = password.Reveal()
	}
	return askedData(a, settled, r.At)
}

// TryData tries the database of a request alone.
func (pl *Planner) TryData(ctx context.Context, r Request) (DataFound, error) {
	asked, err := pl.dataOf(r)
	if err != nil {
		return DataFound{}, err
	}
	return pl.tryData(ctx, asked)
}

// DataTask lists what has to be made by hand for a request, with the password
// that its answers give.
func (pl *Planner) DataTask(r Request) ([]string, error) {
	asked, err := pl.dataOf(r)
	if err != nil {
		return nil, err
	}
	return byHandTask(asked.data, asked.password), nil
}
