package sites

import (
	"cmp"
	"context"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/suggest"
)

// List is the list of recorded sites. All of its fields are given by whoever
// wires the program.
type List struct {
	Book     *site.Book
	Hosting  *hosting.Opener
	Examiner *check.Examiner
	Maker    secret.Maker
	Now      func() time.Time
}

// Listing says which sites are wanted, and in which order.
type Listing struct {
	Words   []string // each in the address, title, app or account
	Account string
	App     string
	Health  string
	Newer   bool          // only those with a newer release
	Only    []ledger.Site // only these; nil for all
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

// Healths are what a site can be found as; unknown is one that was gone and is there again.
var Healths = []string{"good", "bad", "gone", "unknown"}

// Listed are the sites that were wanted, and the accounts that could not be
// looked at: what is said of their sites is what was known before.
type Listed struct {
	Sites  []ledger.Site
	Unseen []error
}

// List lists sites.
func (l *List) List(ctx context.Context, wanted Listing) (Listed, error) {
	if wanted.Health != "" && !slices.Contains(Healths, wanted.Health) {
		return Listed{}, fault.New(fault.Usage, "no site's health is "+wanted.Health, "--health",
			strings.TrimSpace(suggest.Hint(wanted.Health, Healths)+" It is one of "+strings.Join(Healths, ", ")+"."))
	}
	var out Listed
	order, known := sorts[cmp.Or(wanted.Sort, "address")]
	if !known {
		return out, fault.New(fault.Usage, "sites cannot be sorted by "+wanted.Sort, "--sort", "There are "+
			strings.Join(Sorts(), ", ")+".")
	}
	if wanted.Fresh {
		var err error
		if out.Unseen, err = l.freshen(ctx, wanted.Account); err != nil {
			return out, err
		}
	}
	all, err := l.Book.All(ctx)
	all = slices.DeleteFunc(all, func(x ledger.Site) bool { return !wanted.wants(x) })
	if !slices.IsSortedFunc(all, order) { // as they mostly are
		slices.SortStableFunc(all, order)
	}
	if wanted.Reverse {
		slices.Reverse(all)
	}
	out.Sites = all
	return out, err
}

func (l Listing) wants(x ledger.Site) bool {
	if l.Only != nil && !slices.ContainsFunc(l.Only, func(o ledger.Site) bool { return o.Address == x.Address }) {
		return false
	}
	if l.Account != "" && x.Account != l.Account || l.App != "" && x.App != l.App || l.Health != "" &&
		x.Health != l.Health || l.Newer && x.Newer == "" {
		return false
	}
	text := strings.ToLower(x.Address + " " + x.Title + " " + x.App + " " + x.Account)
	return !slices.ContainsFunc(l.Words, func(w string) bool { return !strings.Contains(text, strings.ToLower(w)) })
}

// freshen looks at each account once: which of its sites are still there, and
// how large they are. An account that cannot be reached says nothing about its
// sites; why is among unseen.
func (l *List) freshen(ctx context.Context, account string) (unseen []error, err error) {
	all, err := l.Book.Ledger.Sites(ctx)
	if err != nil {
		return nil, err
	}
	by := map[string][]ledger.Site{}
	for _, x := range all {
		if account == "" || x.Account == account {
			by[x.Account] = append(by[x.Account], x)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(by)) {
		if err := l.freshenAccount(ctx, name, by[name]); err != nil {
			if ctx.Err() != nil {
				return unseen, ctx.Err()
			}
			unseen = append(unseen, err)
		}
	}
	return unseen, nil
}

func (l *List) freshenAccount(ctx context.Context, name string, sites []ledger.Site) error {
	a, err := l.Book.Home.Account(name)
	if err != nil {
		return err
	}
	in, err := l.Hosting.Open(ctx, a)
	if err != nil {
		return err
	}
	defer in.Close()
	sizes := check.SizesOf(ctx, in)
	for _, x := range sites {
		before := x
		gone, err := check.IsGone(ctx, in, &x)
		if err != nil {
			return err
		}
		if !gone {
			others, err := l.Book.Others(ctx, a, x.Folder)
			if err != nil {
				return err
			}
			if err := sizes.Measure(ctx, in, &x, append(others, path.Join(x.Folder, site.WellKnown))); err != nil {
				return err
			}
			l.Examiner.ReadAgain(ctx, in, &x)
		}
		if x.Gone != "" {
			x.Health = "gone"
		} else if before.Health == "gone" {
			x.Health = "unknown"
		}
		if err := l.Examiner.Record(ctx, x); err != nil {
			return err
		}
	}
	return nil
}
