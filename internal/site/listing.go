package site

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
)

// Listing says which sites are wanted, and in which order.
type Listing struct {
	Words   []string // each in the address, title, app or account
	Account string
	App     string
	Health  string
	Newer   bool // only those with a newer release
	Sort    string
	Reverse bool
	Fresh   bool // look at the accounts first
}

// sorts are the orders, by their names; equals stay by address.
var sorts = map[string]func(a, b ledger.Site) int{
	"address": func(a, b ledger.Site) int { return cmp.Compare(a.Address, b.Address) },
	"app":     func(a, b ledger.Site) int { return cmp.Compare(a.App, b.App) },
	"release": func(a, b ledger.Site) int {
		return cmp.Or(cmp.Compare(a.App, b.App), cmp.Compare(a.Release, b.Release))
	},
	"account":   func(a, b ledger.Site) int { return cmp.Compare(a.Account, b.Account) },
	"size":      func(a, b ledger.Site) int { return cmp.Compare(b.Bytes+b.DatabaseBytes, a.Bytes+a.DatabaseBytes) },
	"installed": func(a, b ledger.Site) int { return b.InstalledAt.Compare(a.InstalledAt) },
	"updated":   func(a, b ledger.Site) int { return b.UpdatedAt.Compare(a.UpdatedAt) },
	"backup":    func(a, b ledger.Site) int { return moment(a.LastBackupAt).Compare(moment(b.LastBackupAt)) },
	"health":    func(a, b ledger.Site) int { return cmp.Compare(a.Health, b.Health) },
}

// Sorts lists the orders.
func Sorts() []string { return slices.Sorted(maps.Keys(sorts)) }

func moment(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// List lists sites.
func (s *Service) List(ctx context.Context, l Listing) ([]ledger.Site, error) {
	order, known := sorts[cmp.Or(l.Sort, "address")]
	if !known {
		return nil, fault.New(fault.Usage, "sites cannot be sorted by "+l.Sort, "--sort", "There are "+strings.Join(Sorts(), ", ")+".")
	}
	if l.Fresh {
		if err := s.freshen(ctx, l.Account); err != nil {
			return nil, err
		}
	}
	all, err := s.Sites(ctx)
	all = slices.DeleteFunc(all, func(x ledger.Site) bool { return !l.wants(x) })
	slices.SortStableFunc(all, order)
	if l.Reverse {
		slices.Reverse(all)
	}
	return all, err
}

func (l Listing) wants(x ledger.Site) bool {
	if l.Account != "" && x.Account != l.Account || l.App != "" && x.App != l.App || l.Health != "" && x.Health != l.Health || l.Newer && x.Newer == "" {
		return false
	}
	text := strings.ToLower(x.Address + " " + x.Title + " " + x.App + " " + x.Account)
	return !slices.ContainsFunc(l.Words, func(w string) bool { return !strings.Contains(text, strings.ToLower(w)) })
}

// freshen looks at each account once: which of its sites are still there, and
// how large they are. An account that cannot be reached says nothing about its
// sites.
func (s *Service) freshen(ctx context.Context, account string) error {
	all, err := s.Ledger.Sites(ctx)
	if err != nil {
		return err
	}
	by := map[string][]ledger.Site{}
	for _, x := range all {
		if account == "" || x.Account == account {
			by[x.Account] = append(by[x.Account], x)
		}
	}
	for name, sites := range by {
		a, err := s.Home.Account(name)
		if err != nil {
			continue
		}
		if err := s.freshenAccount(ctx, a, sites); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) freshenAccount(ctx context.Context, a *account.Account, sites []ledger.Site) error {
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		return unreachable(a, err)
	}
	defer fsys.Close()
	databases := s.databasesOf(ctx, a)
	for _, x := range sites {
		p := &Plan{account: a, Account: a.Name}
		if p.place, err = resolve(x.URL, a.Domains); err != nil {
			continue
		}
		p.Place.Folder = x.Folder
		l := &looking{env: &env{Service: s, account: a, files: fsys, plan: p}, site: x}
		before := x
		if gone, err := l.isGone(ctx); err != nil {
			return err
		} else if !gone {
			if err := l.sizes(ctx, databases); err != nil {
				return err
			}
		}
		if l.site.Gone != "" {
			l.site.Health = "gone"
		} else if before.Health == "gone" {
			l.site.Health = "unknown"
		}
		if err := s.recordLook(ctx, l.site); err != nil {
			return err
		}
	}
	return nil
}

// databasesOf gives the sizes of an account's databases, by server and name;
// servers that cannot be asked are left out.
func (s *Service) databasesOf(ctx context.Context, a *account.Account) map[string]map[string]int64 {
	out := map[string]map[string]int64{}
	for i := range a.Databases {
		d := &a.Databases[i]
		server, err := s.connect(ctx, a, d)
		if err != nil {
			continue
		}
		names, err := server.Databases(ctx)
		sizes, sizesErr := server.Sizes(ctx)
		_ = server.Close()
		if err != nil || sizesErr != nil {
			continue
		}
		out[d.Name] = map[string]int64{}
		for _, name := range names {
			out[d.Name][name] = sizes[name]
		}
	}
	return out
}

// sizes brings a site's sizes up to date, and sees whether its database is
// there.
func (l *looking) sizes(ctx context.Context, databases map[string]map[string]int64) error {
	x := &l.site
	others, err := l.foreign(ctx, l.plan)
	if err != nil {
		return err
	}
	if x.Files, x.Bytes, err = files.Count(ctx, l.files, x.Folder, others.has); err != nil {
		return err
	}
	if x.Database == nil || databases[x.Database.Server] == nil {
		return nil
	}
	bytes, there := databases[x.Database.Server][x.Database.Name]
	x.DatabaseBytes = bytes
	switch {
	case !there:
		x.Gone = onlyData
	case x.Gone == onlyData:
		x.Gone = ""
	}
	return nil
}
