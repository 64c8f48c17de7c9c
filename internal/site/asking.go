package site

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
	"tivset/internal/hosting/place"
	"tivset/internal/near"
	"tivset/internal/records/ledger"
)

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
func (s *Service) Spots(ctx context.Context, name string) ([]Spot, error) {
	names := []string{name}
	if name == "" {
		var err error
		if names, err = s.Home.Accounts(); err != nil {
			return nil, err
		}
		if len(names) == 0 {
			return nil, noAccount()
		}
	}
	sites, err := s.Ledger.Sites(ctx)
	if err != nil {
		return nil, err
	}
	var out []Spot
	for _, n := range names {
		a, err := s.Home.Account(n)
		if err != nil {
			return nil, err
		}
		spots, err := s.spotsOf(ctx, a, sites)
		if err != nil {
			return nil, err
		}
		out = append(out, spots...)
	}
	return out, nil
}

func (s *Service) spotsOf(ctx context.Context, a *account.Account, sites []ledger.Site) ([]Spot, error) {
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		return nil, unreachable(a, err)
	}
	defer fsys.Close()
	var out []Spot
	for _, d := range a.Domains {
		spot := Spot{Account: a.Name, Domain: d.Name, URL: d.URL, Primary: d.Primary}
		inside, err := fsys.List(ctx, d.Folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, unreachable(a, err)
		}
		ours := func(i files.Info) bool {
			return slices.ContainsFunc(sites, func(x ledger.Site) bool { return x.Account == a.Name && x.Folder == path.Join(d.Folder, i.Name) })
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
	inside = slices.DeleteFunc(inside, func(i files.Info) bool { return i.Name == wellKnown })
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
		if x.Account != a.Name || !place.Within(x.Folder, d.Folder) {
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
func (s *Service) asking(r Request) (*asking, error) {
	k, err := s.Catalogue.Find(r.App)
	if err != nil {
		return nil, err
	}
	a, err := s.account(r.Account, r.At)
	if err != nil {
		return nil, err
	}
	at, err := resolve(r.At, a.Domains)
	if err != nil {
		return nil, err
	}
	if r.Release != "" && k.Find(r.Release) == nil {
		return nil, fault.New(fault.Usage, k.Title+" has no release "+r.Release, "release", "There are "+strings.Join(k.Versions(), ", ")+".")
	}
	return &asking{k.Kit, chooseRelease(k.Kit, r.Release), a, r.Answers, at.Domain.Name, at.Dir, r.Proposed}, nil
}

// settled are the answers as far as they are fine, with the defaults.
func (a *asking) settled() answer.Given {
	resolved, _ := answer.Resolve(a.questions(), a.given)
	return resolved
}

// Asked is a question that can be put to somebody now.
type Asked struct {
	answer.Question
	Given        bool   // whether it was answered
	Answer       string // what holds now: the answer given, or the default
	What, Remedy string // what is wrong with the answer given
}

// Questions lists the questions that apply to a request as far as it is
// answered, with what holds now. Answers that no question asks for are a fault.
func (s *Service) Questions(r Request) ([]Asked, error) {
	a, err := s.asking(r)
	if err != nil {
		return nil, err
	}
	all := a.questions()
	var ids []string
	for _, q := range all {
		ids = append(ids, q.ID)
	}
	for id := range r.Answers {
		if !slices.Contains(ids, id) {
			return nil, fault.New(fault.Usage, "there is no such answer", id, strings.TrimSpace(near.Hint(id, ids)+" See: tivset about "+r.App))
		}
	}
	holds := a.settled()
	var out []Asked
	for _, q := range all {
		if !q.When.Holds(holds) {
			continue
		}
		asked := Asked{Question: q, Answer: q.Default}
		if v := r.Answers[q.ID]; v != "" {
			asked.Given, asked.Answer = true, v
			asked.What, asked.Remedy = q.Wrong(v)
		}
		out = append(out, asked)
	}
	return out, nil
}

func noAccount() error {
	return fault.New(fault.Usage, "there is no account yet", "", "Add one with: tivset account add NAME, which asks. To try Tivset without one: tivset demo")
}
