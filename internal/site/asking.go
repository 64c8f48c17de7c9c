package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"

	"tivset/internal/account"
	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/ledger"
	"tivset/internal/place"
)

// Spot is a domain of an account and what is at its root now.
type Spot struct {
	Account string
	Domain  string
	URL     string
	State   string // for people: empty, a site of ours, what lies there
	Free    bool   // whether an app can go to its root
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
	fsys, err := s.OpenFiles(a)
	if err != nil {
		return nil, unreachable(a, err)
	}
	defer fsys.Close()
	var out []Spot
	for _, d := range a.Domains {
		spot := Spot{Account: a.Name, Domain: d.Name, URL: d.URL}
		inside, err := fsys.List(ctx, d.Folder)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			spot.State = "its folder is not there"
		case err != nil:
			return nil, unreachable(a, err)
		case len(inside) == 0:
			spot.State, spot.Free = "empty", true
		case len(inside) == 1:
			spot.State = "holds " + inside[0].Name
		default:
			spot.State = fmt.Sprintf("holds %d files and folders, such as %s", len(inside), inside[0].Name)
		}
		out = append(out, withSites(spot, a, d, sites))
	}
	return out, nil
}

// withSites says which of our sites are on the domain.
func withSites(spot Spot, a *account.Account, d account.Domain, sites []ledger.Site) Spot {
	below := 0
	for _, x := range sites {
		if x.Account != a.Name || !place.Within(x.Folder, d.Folder) {
			continue
		}
		if x.Folder == d.Folder {
			spot.State, spot.Free = "“"+x.Title+"” ("+x.App+")", false
			return spot
		}
		below++
	}
	if below == 1 {
		spot.State += ", one site below it"
	} else if below > 1 {
		spot.State += fmt.Sprintf(", %d sites below it", below)
	}
	return spot
}

// Open lists what a request still has to be told: the questions that need an
// answer and have none, and those whose answer will not do, with the reason.
func (s *Service) Open(r Request) ([]Asked, error) {
	k, err := s.Catalogue.Find(r.App)
	if err != nil {
		return nil, err
	}
	a, err := s.account(r.Account, r.At)
	if err != nil {
		return nil, err
	}
	where, err := place.Resolve(r.At, a.Domains)
	if err != nil {
		return nil, err
	}
	all := questions(k.Kit, a, r.Answers, where.Domain.Name, "")
	for id := range r.Answers {
		if !slices.ContainsFunc(all, func(q answer.Question) bool { return q.ID == id }) {
			return nil, fault.New(fault.Usage, "there is no such answer", id, "See: tivset about "+r.App)
		}
	}
	var out []Asked
	for _, q := range all {
		given, ok := r.Answers[q.ID]
		what, remedy := "", ""
		if ok && given != "" {
			what, remedy = q.Wrong(given)
		}
		declined := q.ID == "licence" && k.Licence.MustAccept && given != "accept"
		if what != "" || declined || q.Needed && given == "" {
			out = append(out, Asked{q, what, remedy})
		}
	}
	return out, nil
}

// Asked is a question to put to somebody, and what was wrong with the answer
// given before, if there was one.
type Asked struct {
	answer.Question
	What, Remedy string
}

func noAccount() error {
	return fault.New(fault.Usage, "there is no account yet", "", "Add one with: tivset account add NAME --from FILE. To try Tivset without one: tivset demo")
}
