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
}

// Forget drops the record of a site that is no longer there, and its secrets. One
// of which anything is left in its folder is kept.
func (l *List) Forget(ctx context.Context, word string) (Forgotten, error) {
	found, err := l.Book.Find(ctx, word)
	if err != nil {
		return Forgotten{}, err
	}
	there, err := l.stands(ctx, found)
	if err != nil {
		return Forgotten{}, err
	}
	if there != "" {
		return Forgotten{}, fault.New(fault.Decision, "the site is still there", there,
			"Only the record of a site that is gone can be dropped. To take the site away: "+fault.Call("remove", found.Address))
	}
	done := Forgotten{Site: found, Database: l.leftData(ctx, found)}
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
	session, err := l.Hosting.OpenSession(ctx, a, server, login)
	if err != nil {
		return ""
	}
	_ = session.Close()
	return d.Name
}
