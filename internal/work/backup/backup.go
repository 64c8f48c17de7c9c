// Package backup is the way of a site into a file, and the list of the files
// that are there.
package backup

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	format "tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/step"
	"tivset/internal/work"
)

// Way is this way's line in the table.
func Way() work.Operation {
	return work.Operation{Name: "backup", Past: "backed up",
		Again: work.AgainWith(func(ctx context.Context, d *work.Service, r Request) error {
			_, err := Make(ctx, d, r)
			return err
		})}
}

// Request is a backup that somebody wants.
type Request struct {
	Site string
	Into string   // a folder on this machine; "" for the account's store
	To   []string // public keys of age to encrypt it to
	Keep string   // which are kept, such as 7d,4w,6m; "" for all
	Care bool     // the site's care asks for it, and nobody in person
}

// Valid says what is wrong with a request, but for its site.
func Valid(r Request) error {
	_, err := r.rotation()
	return err
}

// rotation reads which backups are kept; nil for all.
func (r Request) rotation() (*Rotation, error) {
	if _, err := format.Recipients(r.To); err != nil {
		return nil, fault.New(fault.Usage, "the backup cannot be encrypted", "--encrypt-to",
			"Give a public key of age, which begins with age1.").Wrap(err)
	}
	if r.Keep == "" {
		return nil, nil
	}
	parsed, err := ParseRotation(r.Keep)
	return &parsed, err
}

// Make makes a backup of a site.
func Make(ctx context.Context, d *work.Service, r Request) (*step.BackedUp, error) {
	rotation, err := r.rotation()
	if err != nil {
		return nil, err
	}
	h, err := d.Hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	t, err := d.Begin(h.In, h.Of)
	if err != nil {
		return nil, err
	}
	made := &step.BackedUp{}
	err = d.CarryOut(ctx, t, work.Job{Way: Way(), Request: r, List: func(context.Context) (job.List, func(), error) {
		why := step.Asked
		if r.Care {
			why = step.Regular
		}
		backUp, err := step.BackUpOf(t, h.Site, why, r.Into, r.To, made)
		return job.List{Steps: []job.Step{step.ClaimOf(t, h.Address, &h.Site), backUp},
			Commit: step.Saved(t, h.Site, func(x *ledger.Site) { x.LastBackupAt = &made.MadeAt }),
			Finish: []job.PostCommit{step.TidyUp(t, h.Address, "")}}, nil, err
	}})
	if err == nil && rotation != nil {
		made.Dropped, err = rotate(ctx, h, r.Into, *rotation, made.File)
	}
	if err != nil {
		return nil, err
	}
	return made, nil
}

// Listed is a backup that is there.
type Listed struct {
	step.Kept
	step.NamedBackup
	Bytes   int64  `json:"bytes"`
	Address string `json:"address"`           // of the site; of one that is not recorded, the name of its folder
	Removed bool   `json:"removed,omitempty"` // no such site is recorded
}

// List lists the backups of a site, newest first: those in the account's store,
// or those in a folder here. A site that was removed is named by its address; within
// names its account where several could be meant.
func List(ctx context.Context, d *work.Service, word, within, folder string) ([]Listed, error) {
	address, a, err := whose(ctx, d, word, within)
	if err != nil {
		return nil, err
	}
	if folder != "" {
		return here(ctx, address, folder)
	}
	in, err := d.Hosting.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return In(ctx, in, address)
}

// whose finds the address and the account that a word means: of a recorded site,
// or of a place of an account's where one was.
func whose(ctx context.Context, d *work.Service, word, within string) (string, *account.Account, error) {
	known, err := d.Book.Knows(ctx, word)
	if err != nil {
		return "", nil, err
	}
	if known {
		found, err := d.Book.Find(ctx, word)
		if err != nil {
			return "", nil, err
		}
		a, err := d.Book.Home.Account(found.Account)
		return found.Address, a, err
	}
	a, err := d.Book.Account(within, word)
	if err != nil {
		return "", nil, err
	}
	at, err := site.Resolve(word, a.Domains)
	return at.Address(), a, err
}

// Every lists all backups in the stores of accounts, those of removed sites too.
// Accounts that cannot be looked at are among unseen.
func Every(ctx context.Context, d *work.Service, only string) (all []Listed, unseen []error, err error) {
	names, err := d.Book.Home.Accounts()
	if err != nil {
		return nil, nil, err
	}
	sites, err := d.Book.Ledger.Sites(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, name := range names {
		if only != "" && name != only {
			continue
		}
		found, err := inAccount(ctx, d, name, sites)
		if ctx.Err() != nil {
			return nil, nil, ctx.Err()
		}
		if err != nil {
			unseen = append(unseen, err)
		}
		all = append(all, found...)
	}
	slices.SortStableFunc(all, func(a, b Listed) int { return b.MadeAt.Compare(a.MadeAt) })
	return all, unseen, nil
}

func inAccount(ctx context.Context, d *work.Service, name string, sites []ledger.Site) ([]Listed, error) {
	a, err := d.Book.Home.Account(name)
	if err != nil {
		return nil, err
	}
	in, err := d.Hosting.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	folders, err := in.Files.List(ctx, path.Dir(in.Store().Backups("x")))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []Listed
	for _, folder := range folders {
		found, errIn := In(ctx, in, folder.Name)
		err = errors.Join(err, errIn)
		i := slices.IndexFunc(sites, func(x ledger.Site) bool {
			return x.Account == name && hosting.Slug(x.Address) == folder.Name
		})
		for _, l := range found {
			if l.Removed = i < 0; !l.Removed {
				l.Address = sites[i].Address
			}
			out = append(out, l)
		}
	}
	return out, err
}

// Named finds backups of a site by their names as they are listed.
func Named(ctx context.Context, d *work.Service, word, within, folder string, names []string) ([]Listed, error) {
	all, err := List(ctx, d, word, within, folder)
	if err != nil {
		return nil, err
	}
	var chosen []Listed
	for _, name := range names {
		i := slices.IndexFunc(all, func(l Listed) bool { return path.Base(filepath.ToSlash(l.File)) == path.Base(name) })
		if i < 0 {
			return nil, fault.New(fault.Usage, "there is no such backup", name, "Name one of those that "+
				fault.Call("backup", word, "--list")+" shows. Nothing was deleted.")
		}
		chosen = append(chosen, all[i])
	}
	return chosen, nil
}

// Drop takes away backups of a site, by their names as they are listed: all that
// are named, or none when one is not there.
func Drop(ctx context.Context, d *work.Service, word, within, folder string, names []string) ([]Listed, error) {
	chosen, err := Named(ctx, d, word, within, folder, names)
	if err != nil {
		return nil, err
	}
	_, a, err := whose(ctx, d, word, within)
	if err != nil {
		return nil, err
	}
	in, err := d.Hosting.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	for n, l := range chosen {
		if err := drop(ctx, in, l); err != nil {
			return chosen[:n], err
		}
	}
	return chosen, nil
}

func drop(ctx context.Context, in *hosting.Account, l Listed) error {
	return step.DepotOf(in, l.Depot).Remove(ctx, l.File)
}

// In lists the backups of an address in an account's store, newest first.
func In(ctx context.Context, in *hosting.Account, address string) ([]Listed, error) {
	return inDepot(ctx, in, step.InAccount, in.Store().Backups(address), address, "")
}

// here lists those in a folder of this machine, where sites lie side by side.
func here(ctx context.Context, address, folder string) ([]Listed, error) {
	return inDepot(ctx, nil, step.Here, folder, address, hosting.Slug(address)+"-")
}

// inDepot lists those in a folder of a depot, whose names begin with something.
func inDepot(ctx context.Context, in *hosting.Account, name, folder, address, begins string) ([]Listed, error) {
	inside, err := step.DepotOf(in, name).List(ctx, folder)
	out := []Listed{}
	for _, e := range inside {
		stem, is := strings.CutPrefix(e.Name, begins)
		named, isBackup := step.BackupNamed(stem)
		if is && isBackup {
			out = append(out, Listed{Kept: step.Kept{File: path.Join(filepath.ToSlash(folder), e.Name), Depot: name},
				NamedBackup: named,
				Bytes:       e.Bytes, Address: address})
		}
	}
	slices.Reverse(out) // names are times
	return out, err
}

// rotate drops the backups that are not to be kept; never the one that was just
// made, though one of a clock that is ahead seems newer.
func rotate(ctx context.Context, h *work.Held, into string, r Rotation, made string) ([]string, error) {
	all, err := In(ctx, h.In, h.Address)
	if into != "" {
		all, err = here(ctx, h.Address, into)
	}
	if err != nil {
		return nil, err
	}
	var moments []time.Time
	for _, l := range all {
		moments = append(moments, l.MadeAt)
	}
	var dropped []string
	outdated := r.Outdated(moments)
	for _, l := range all {
		if l.File == made || !slices.Contains(outdated, l.MadeAt) {
			continue
		}
		if err := drop(ctx, h.In, l); err != nil {
			return dropped, err
		}
		dropped = append(dropped, l.File)
	}
	return dropped, nil
}
