package site

import (
	"context"
	"errors"
	"io/fs"
	"path"

	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
)

// Forgotten is a site whose record was dropped.
type Forgotten struct {
	Site     ledger.Site
	Database string // that is still there, or ""
}

// ForgetSite drops the record of a site that is no longer there, and its
// secrets. One of which anything is left in its folder is kept.
func (s *Service) ForgetSite(ctx context.Context, word string) (Forgotten, error) {
	found, err := s.Site(ctx, word)
	if err != nil {
		return Forgotten{}, err
	}
	there, err := s.stands(ctx, found)
	if err != nil {
		return Forgotten{}, err
	}
	if there != "" {
		return Forgotten{}, fault.New(fault.Decision, "the site is still there", there, "Only the record of a site that is gone can be dropped. To take the site away: tivset remove "+found.Address)
	}
	done := Forgotten{Site: found, Database: s.leftData(ctx, found)}
	if err := s.Ledger.DropSite(ctx, found.Address); err != nil {
		return done, err
	}
	return done, s.Vault.Forget(vaultName(found.Address, ""))
}

// stands gives the first of a site's own files or folders that is there, or "".
// Of an account that is not kept any more nothing can be there.
func (s *Service) stands(ctx context.Context, x ledger.Site) (string, error) {
	a, err := s.Home.Account(x.Account)
	if err != nil {
		return "", nil
	}
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		return "", unreachable(a, err)
	}
	defer fsys.Close()
	for _, name := range x.Entries {
		full := path.Join(x.Folder, name)
		if there, err := files.Exists(ctx, fsys, full); err != nil || there {
			return full, err
		}
	}
	return "", nil
}

// leftData names the site's database when it is still there.
func (s *Service) leftData(ctx context.Context, x ledger.Site) string {
	a, err := s.Home.Account(x.Account)
	if err != nil || x.Database == nil {
		return ""
	}
	server := a.Database(x.Database.Server, x.Database.Engine)
	password, err := s.Vault.Get(vaultName(x.Address, dataPassword))
	if server == nil || inside(server) || err != nil && !errors.Is(err, fs.ErrNotExist) {
		return ""
	}
	p := &Plan{Data: &PlanData{Name: x.Database.Name, User: x.Database.User}, secrets: map[string]secretText{dataPassword: password}}
	session, err := s.OpenSession(ctx, a, server, p.loginOf(server))
	if err != nil {
		return ""
	}
	_ = session.Close()
	return x.Database.Name
}
