package sites

import (
	"context"
	"errors"
	"io/fs"
	"path"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// Forgotten is a site whose record was dropped.
type Forgotten struct {
	Site     ledger.Site
	Database string // that is still there, or ""
	Stands   string // a file of the site's that is still there, or ""
	Unseen   error  // why nobody could see what is there; nil when it was looked at
}

// Forget drops the record of a site that is no longer there, and its secrets. One
// of which anything is left in its folder, or at which nobody can look, is
// forgotten only anyway: nothing in the account is touched.
func (l *List) Forget(ctx context.Context, word string, anyway bool) (Forgotten, error) {
	found, err := l.Book.Find(ctx, word)
	if err != nil {
		return Forgotten{}, err
	}
	there, err := l.stands(ctx, found)
	if ctx.Err() != nil {
		return Forgotten{}, ctx.Err()
	}
	record := " To drop the record alone: " + fault.Call("forget", found.Address, "--anyway")
	if err != nil && !anyway {
		f := *fault.Of(err)
		f.Remedy += record
		return Forgotten{}, &f
	}
	if there != "" && !anyway {
		return Forgotten{}, fault.New(fault.NeedsConfirmation, "the site is still there", there,
			"To take the site away: "+fault.Call("remove", found.Address)+"."+record)
	}
	done := Forgotten{Site: found, Stands: there, Unseen: err}
	if err == nil {
		done.Database = l.leftData(ctx, found)
	}
	if err := l.Book.Ledger.DropSite(ctx, found.Address); err != nil {
		return done, err
	}
	return done, l.Book.Vault.Forget(site.VaultName(found.Address, ""))
}

// stands gives the first of a site's own files or folders that is there, or "".
// Of an account that is not kept any more nothing can be there.
func (l *List) stands(ctx context.Context, x ledger.Site) (string, error) {
	a, err := l.Book.Home.Account(x.Account)
	if err != nil {
		return "", nil
	}
	in, err := l.Hosting.Open(ctx, a)
	if err != nil {
		return "", err
	}
	defer in.Close()
	for _, name := range x.Entries {
		full := path.Join(x.Folder, name)
		if there, err := files.Exists(ctx, in.Files, full); err != nil || there {
			return full, err
		}
	}
	return "", nil
}

// leftData names the site's database when it is still there.
func (l *List) leftData(ctx context.Context, x ledger.Site) string {
	a, err := l.Book.Home.Account(x.Account)
	d := x.Database
	if err != nil || d == nil {
		return ""
	}
	server := a.Database(d.Server, d.Engine)
	password, err := l.Book.Vault.Get(site.VaultName(x.Address, site.DataPassword))
	if server == nil || server.FromInside() || err != nil && !errors.Is(err, fs.ErrNotExist) {
		return ""
	}
	login := database.Login{Server: server.Server, User: d.User, Password: password, Database: d.Name}
	session, err := l.Hosting.Session(ctx, a, server, login)
	if err != nil {
		return ""
	}
	_ = session.Close()
	return d.Name
}
