package sites

import (
	"context"
	"net/url"
	"slices"
	"strings"

	"tivset/internal/command/cli"
	"tivset/internal/core"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/records/ledger"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
	"tivset/internal/work/restore"
)

// restoreInto brings sites back into another account. Whatever has no address there is said at once.
func (a *app) restoreInto(ctx context.Context, s *core.Core, r *restore.Request, args []string, o *cli.Selection,
	domains []string,
) error {
	in, err := s.Book.Home.Account(r.Into)
	if err != nil {
		return err
	}
	to, err := renamedDomains(domains)
	if err != nil {
		return err
	}
	rows, err := a.Rows(ctx, s, args, o)
	if err != nil {
		return err
	}
	all, err := batch.Sites(ctx, s.Book, cli.Named(rows), a.Account)
	if err != nil {
		return err
	}
	var wrong []fault.Problem
	for n, x := range all {
		each := *r
		each.Site, each.Account, each.From = x.Address, x.Account, rows[n].Value("from", r.From)
		var problem *fault.Problem
		if each.At, problem = addressIn(in, x, to); problem != nil {
			if !slices.Contains(wrong, *problem) {
				wrong = append(wrong, *problem)
			}
			continue
		}
		rows[n].Request = &requests.Restore{Request: each}
	}
	if err := fault.Join("not all have an address in that account", "Nothing was touched.", wrong); err != nil {
		return err
	}
	o.Strict = true
	if err := a.Carry(ctx, s, &batch.Batch{Rows: rows}, o, nil); err != nil || a.DryRun || a.Ordering != nil {
		return err
	}
	for _, x := range all {
		if now, err := s.Book.Ledger.Site(ctx, x.Address); err == nil && now.Account == x.Account {
			a.Streams.Say("%s stays on record in %s too; to drop that: tivset forget %s --anyway", x.Address, x.Account,
				x.Address)
		}
	}
	return nil
}

// renamedDomains reads OLD=NEW.
func renamedDomains(said []string) (map[string]string, error) {
	out := map[string]string{}
	for _, one := range said {
		from, to, is := strings.Cut(one, "=")
		if !is || from == "" || to == "" {
			return nil, fault.New(fault.Usage, "a domain is not named so", one, "Write it as OLD=NEW, the domain there last.")
		}
		out[from] = to
	}
	return out, nil
}

// addressIn is where a site comes to be in another account: in the same directory of its domain, or of the one that is
// named for it.
func addressIn(in *account.Account, x ledger.Site, to map[string]string) (string, *fault.Problem) {
	u, err := url.Parse(x.URL)
	if err != nil {
		return "", &fault.Problem{ID: x.Address, What: "its address cannot be read", Remedy: "See: " +
			fault.Call("show", x.Address)}
	}
	domain := u.Hostname()
	if named := to[domain]; named != "" {
		domain = named
	}
	var has []string
	for _, d := range in.Domains {
		if d.Name == domain {
			return domain + strings.TrimSuffix(u.Path, "/"), nil
		}
		has = append(has, d.Name)
	}
	return "", &fault.Problem{ID: domain, What: "the account " + in.Name + " has no such domain",
		Remedy: "Say which of its domains takes the place: --domain " + u.Hostname() + "=NEW; it has " +
			strings.Join(has, ", ") + ". Or add it to the account."}
}
