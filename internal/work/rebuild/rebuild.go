// Package rebuild makes the record of sites again when the ledger is lost: from
// what the accounts have, their backups and the vault tell, as far as they do.
// Nothing of a site is changed, and what is on record stays as it is.
package rebuild

import (
	"context"
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/work"
	"tivset/internal/work/adopt"
	"tivset/internal/work/backup"
	"tivset/internal/work/renew"
	"tivset/internal/work/restore"
)

// Rebuilt is what came of it.
type Rebuilt struct {
	Sites  []ledger.Site // recorded anew
	Jobs   []ledger.Job  // that were cut off, known by their journals alone
	Left   []Left        // addresses of which something is known, and not enough
	Unseen []error       // accounts that could not be looked at
	Anew   []string      // of which sites the admin has a new password
	Named  []Renamed     // of which sites the domain has another name now

	notOurs bool
}

// Renamed is a site whose domain has another name than when it was recorded.
type Renamed struct {
	Was string `json:"was"`
	Is  string `json:"is"`
}

// Left is an address that could not be recorded, and why.
type Left struct {
	Address string
	Account string
	Why     error
}

// Rebuild looks at the accounts, all or the one that is named. Of backups that are not ours it takes the record of
// their sites only where that is wanted; the admins of those get new passwords.
func Rebuild(ctx context.Context, d *work.Service, only string, notOurs bool) (*Rebuilt, error) {
	names, err := d.Book.Home.Accounts()
	if err != nil {
		return nil, err
	}
	out := &Rebuilt{notOurs: notOurs}
	if out.Jobs, err = jobs(ctx, d); err != nil {
		return nil, err
	}
	for _, name := range names {
		if only != "" && name != only {
			continue
		}
		err := out.account(ctx, d, name)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil {
			out.Unseen = append(out.Unseen, err)
		}
	}
	return out, nil
}

func (r *Rebuilt) account(ctx context.Context, d *work.Service, name string) error {
	a, err := d.Book.Home.Account(name)
	if err != nil {
		return err
	}
	in, err := d.Hosting.Open(ctx, a)
	if err != nil {
		return err
	}
	defer in.Close()
	known, err := candidates(ctx, d, in)
	if err != nil {
		return err
	}
	for _, address := range slices.Sorted(maps.Keys(known)) {
		x, err := r.again(ctx, d, in, address, known[address])
		switch {
		case ctx.Err() != nil:
			return ctx.Err()
		case errors.Is(err, adopt.ErrNotThere) || err == nil && x == nil:
		case err != nil:
			r.Left = append(r.Left, Left{address, name, err})
		default:
			r.Sites = append(r.Sites, *x)
		}
	}
	return nil
}

// candidates lists the addresses of an account of which something is kept, with
// the time of the newest backup, or none.
func candidates(ctx context.Context, d *work.Service, in *hosting.Account) (map[string]time.Time, error) {
	out := map[string]time.Time{}
	addresses, err := d.Book.InVault()
	if err != nil {
		return nil, err
	}
	slugs := map[string]string{}
	for _, address := range addresses {
		slugs[hosting.Slug(address)] = address
		if at, err := site.Resolve(address, in.Domains); err == nil && at.Address() == address {
			out[address] = time.Time{}
		}
	}
	folders, err := in.Files.List(ctx, path.Dir(in.Store().Backups("x")))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for _, folder := range folders {
		all, err := backup.In(ctx, in, folder.Name)
		if err != nil {
			return nil, err
		}
		if len(all) == 0 {
			continue
		}
		address := slugs[folder.Name]
		if address == "" { // the backup itself says it
			address = folder.Name
		}
		out[address] = all[0].MadeAt
	}
	return out, nil
}

// again records what is at an address; nil where a site is on record there.
func (r *Rebuilt) again(ctx context.Context, d *work.Service, in *hosting.Account, address string,
	backedUp time.Time) (*ledger.Site, error) {
	var before adopt.Before
	var unread error
	foreign := false
	if !backedUp.IsZero() {
		content, done, err := restore.Newest(ctx, d, in, address, r.notOurs)
		if err == nil {
			done()
			foreign = content.Foreign
			before = adopt.Before{Record: &content.Record, Secrets: content.Secrets}
			before.Record.LastBackupAt, address = &backedUp, content.Record.Address
		}
		unread = err
	}
	if before.Secrets == nil {
		before.Secrets = map[string]secret.Text{}
	}
	if kept, err := d.Book.Vault.Get(site.VaultName(address, site.AdminPassword)); err == nil {
		before.Secrets[site.AdminPassword] = kept
	}
	at, err := site.Resolve(address, in.Domains)
	if err != nil {
		now, is := named(in.Domains, before.Record)
		if !is {
			return nil, errors.Join(unread, err)
		}
		at, err = now, nil
		r.Named = append(r.Named, Renamed{address, at.Address()})
	}
	if known, err := d.Book.Has(ctx, at.Address()); err != nil || known {
		return nil, err
	}
	if before.Secrets[site.AdminPassword].Empty() {
		return nil, errors.Join(unread, adoptable(at.Address()))
	}
	if _, err := adopt.Again(ctx, d, in, at, before); err != nil {
		return nil, err
	}
	if foreign {
		if _, err := renew.Renew(ctx, d, at.Address()); err != nil {
			return nil, err
		}
		r.Anew = append(r.Anew, at.Address())
	}
	x, err := d.Book.Ledger.Site(ctx, at.Address())
	return &x, err
}

// named finds a site whose domain has another name now, by the folder in which it is.
func named(domains []account.Domain, x *ledger.Site) (at place.Place, is bool) {
	if x == nil {
		return at, false
	}
	best := ""
	for _, d := range domains {
		if !files.Within(x.Folder, d.Folder) || len(d.Folder) < len(best) {
			continue
		}
		found, err := site.Resolve(d.Name+strings.TrimPrefix(x.Folder, d.Folder), domains)
		if err == nil {
			at, best, is = found, d.Folder, true
		}
	}
	return at, is
}

func adoptable(address string) error {
	return fault.New(fault.Usage, "no password of its admin is kept", address,
		"If a site is there, manage it with: "+fault.Call("adopt", address))
}

// jobs records the jobs that are known by their journals alone and have not come
// to an end: they can be taken back or brought to it again.
func jobs(ctx context.Context, d *work.Service) ([]ledger.Job, error) {
	known, err := d.Book.Ledger.Jobs(ctx, ledger.JobFilter{})
	if err != nil {
		return nil, err
	}
	kept, err := d.Book.Journals.IDs()
	if err != nil {
		return nil, err
	}
	var out []ledger.Job
	for _, id := range kept {
		if slices.ContainsFunc(known, func(j ledger.Job) bool { return j.ID == id }) {
			continue
		}
		entry, err := cutOff(d, id)
		if err != nil || entry == nil { // one that runs, or that nobody can read
			continue
		}
		if err := d.Book.Ledger.PutJob(ctx, *entry); err != nil {
			return nil, err
		}
		out = append(out, *entry)
	}
	return out, nil
}

// cutOff is the record of a job that has not come to its end, from its journal.
func cutOff(d *work.Service, id string) (*ledger.Job, error) {
	j, err := job.Open(d.Book.Journals, id, d.Now)
	if err != nil {
		return nil, err
	}
	defer j.Close()
	if j.Over() {
		return nil, nil
	}
	started, err := time.Parse("20060102-150405", id[:len("20060102-150405")])
	return &ledger.Job{ID: id, What: j.What, Account: j.Account, Address: j.Address, Started: started,
		Outcome: ledger.Running}, err
}
