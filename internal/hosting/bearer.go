package hosting

import (
	"context"
	"errors"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/helperpage"
)

// HelperPageAt chooses a name for a helper page that nobody can guess, below a domain.
func (a *Account) HelperPageAt(d account.Domain) (helperpage.Place, error) {
	token, err := a.opener.Maker.Token(32)
	return helperpage.Place{Root: d.Folder, URL: d.URL, Name: "tivset-" + token + ".php", Store: a.Store().Top()}, err
}

// PutHelperPage sends a helper page and hears what its PHP is, and what it says of
// functions and settings. The helper page stays until its End.
func (a *Account) PutHelperPage(ctx context.Context, at helperpage.Place, functions,
	settings []string) (*helperpage.Page,
	helperpage.Found, error) {
	sent, err := helperpage.Send(ctx, a.Files, a.Visitor(), at, a.opener.Now())
	if err != nil {
		return nil, helperpage.Found{}, err
	}
	var found helperpage.Found
	err = a.Settled(ctx, func() error {
		found, err = sent.Look(ctx, functions, settings)
		return err
	})
	var silent *helperpage.Silent
	if errors.As(err, &silent) {
		err = fault.New(fault.Failed, "the PHP that serves the site cannot be asked", at.URL,
			"Ask the host to switch PHP on for this domain, with its extension openssl.").Wrap(err)
	}
	return sent, found, err
}

// Employ has a helper page work for the account from now on. It unpacks where what
// it writes belongs to the account's user (or nobody here could take it away
// again) and the reach would send each file by itself.
func (a *Account) Employ(c *helperpage.Page, found helperpage.Found) {
	a.page = c
	a.carries = a.Unpacks(found)
}

// Unpacks says whether a helper page is to unpack here.
func (a *Account) Unpacks(found helperpage.Found) bool {
	line := a.Line()
	return !line.OwnMachine && !line.Shell && found.Owner && found.Unpacks
}

// LetGo ends the helper page that works here, if there is one; it says whether
// there was.
func (a *Account) LetGo(ctx context.Context) (bool, error) {
	if a.page == nil {
		return false, nil
	}
	sent := a.page
	a.page = nil
	return true, sent.End(ctx)
}

// Unpacker is where the helper page lies that unpacks here; nil for none.
func (a *Account) Unpacker() *helperpage.Place {
	if !a.carries || a.page == nil {
		return nil
	}
	at := a.page.Place()
	return &at
}

// TakeHelperPage takes a helper page's file away, whether it works here or is left
// of a run that was cut off.
func (a *Account) TakeHelperPage(ctx context.Context, at helperpage.Place) error {
	a.page = nil
	return helperpage.Dismiss(ctx, a.Files, at)
}

// Carrier is where an archive is unpacked to: by the helper page that works here,
// or file by file.
func (a *Account) Carrier() files.FS {
	if a.carries && a.page != nil {
		return a.page.Files()
	}
	return a.Files
}

// SignIn signs in to a site's database, by a helper page where that is the only
// way: by the one at work, or, as in an undo, by one that goes with the session.
func (a *Account) SignIn(ctx context.Context, d *account.Database, l database.Login,
	at helperpage.Place) (database.Session, error) {
	if !d.FromInside() {
		return a.opener.Session(ctx, a.Account, d, l)
	}
	l.Server = strings.TrimPrefix(d.Server, account.FromSites)
	if a.page != nil {
		return opened(a.page.Open(ctx, d.Engine, l))
	}
	token, err := a.opener.Maker.Token(32)
	if err != nil {
		return nil, err
	}
	at.Name = "tivset-" + token + ".php"
	made, err := files.MkdirAll(ctx, a.Files, at.Store, 0o700)
	if err != nil {
		return nil, err
	}
	leave := func() error {
		err := helperpage.Dismiss(context.WithoutCancel(ctx), a.Files, at)
		if made != "" {
			err = errors.Join(err, files.DropEmpty(context.WithoutCancel(ctx), a.Files, at.Store))
		}
		return err
	}
	sent, _, err := a.PutHelperPage(ctx, at, nil, nil)
	if err != nil {
		return nil, errors.Join(err, leave())
	}
	s, err := sent.Open(ctx, d.Engine, l)
	if err != nil {
		return nil, errors.Join(err, leave())
	}
	return &visiting{s, leave}, nil
}

// opened keeps a nil pointer from becoming an interface that is not nil.
func opened(s *helperpage.Session, err error) (database.Session, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

// visiting is a session whose helper page goes with it.
type visiting struct {
	database.Session
	leave func() error
}

// Close ends the session, and takes its helper page away.
func (v *visiting) Close() error { return errors.Join(v.Session.Close(), v.leave()) }
