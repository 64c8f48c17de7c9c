package restore

import (
	"context"
	"errors"
	"os"
	"slices"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/work"
	"tivset/internal/work/backup"
)

// intoAccount looks at what brings a recorded site back into another account: its host died, or is left. Of the account
// that it is in nothing is needed where the backup lies here; where its address stays, its record goes over.
func intoAccount(ctx context.Context, d *work.Service, a asked) (*Plan, error) {
	x, err := d.Book.Find(ctx, a.Site)
	if err != nil {
		return nil, err
	}
	if len(a.Files) > 0 {
		return nil, fault.New(fault.Usage, "single files come back to where the site is", a.Into,
			"Restore the whole of it, without --file. Nothing was touched.")
	}
	if x.Account == a.Into {
		return nil, fault.New(fault.Usage, "the site is in that account", a.Into,
			"To bring it back where it is: "+fault.Call("restore", x.Address)+". Nothing was touched.")
	}
	o, err := ofRecord(ctx, d, a, x)
	if err != nil {
		return nil, err
	}
	o.Instead = &x
	a.Site, a.Account = a.At, a.Into
	if a.Site == "" {
		a.Site = strings.TrimSuffix(x.URL, "/")
	}
	return planned(nil, a, o), nil
}

// ofRecord opens the backup that a request means of a site on record: one here, or one in the account it is in.
func ofRecord(ctx context.Context, d *work.Service, a asked, x ledger.Site) (*opened, error) {
	a, err := a.ofFolder(ctx, d)
	if err != nil {
		return nil, err
	}
	o, err := file(ctx, d, a)
	if err != nil || o != nil {
		return o, err
	}
	in, err := d.Book.Home.Account(x.Account)
	if err != nil {
		return nil, err
	}
	there, err := d.Hosting.Open(ctx, in)
	if err != nil {
		f := *fault.Of(err)
		f.Remedy = "Where the account is lost, say where its backups are: --from FOLDER. " + f.Remedy
		return nil, &f
	}
	if o, err = stored(ctx, d, there, x.Address, a); err != nil {
		return nil, errors.Join(err, there.Close())
	}
	drop := o.done
	o.done = func() {
		drop()
		_ = there.Close()
	}
	return o, nil
}

// ofFolder is the request with the newest backup of its site in place of a folder of this machine that it names.
func (a asked) ofFolder(ctx context.Context, d *work.Service) (asked, error) {
	if info, err := os.Stat(a.From); a.From == "" || err != nil || !info.IsDir() {
		return a, nil
	}
	all, err := backup.List(ctx, d, a.Site, a.Account, a.From)
	if err != nil {
		return a, err
	}
	for _, l := range all {
		if !slices.Contains(ofTrouble, l.Why) {
			a.From = l.File
			return a, nil
		}
	}
	return a, fault.New(fault.Usage, "the folder has no backup of this site", a.From+": "+a.Site,
		"Name another folder or file with --from. Nothing was touched.")
}
