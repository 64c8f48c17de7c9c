package sites

import (
	"cmp"
	"context"
	"errors"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/app/setup"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// Learn takes note of the password that a site's admin has now, because it was
// changed in the app. Name is that of the admin, "" for the one that the site
// tells or that is recorded. It is kept only when it signs in; nothing of the
// site is changed.
func (l *List) Learn(ctx context.Context, word, name string, password secret.Text) (site.Credentials, error) {
	var none site.Credentials
	found, err := l.Book.Find(ctx, word)
	if err != nil {
		return none, err
	}
	s, err := l.Book.From(found)
	if err != nil {
		return none, err
	}
	in, err := l.Hosting.Open(ctx, s.In)
	if err != nil {
		return none, err
	}
	defer in.Close()
	s = s.With(map[string]secret.Text{site.AdminPassword: password})
	v := &check.Visit{Site: s, In: in, Maker: l.Maker, Now: l.Now, Once: true}
	if err := v.Open(); err != nil {
		return none, err
	}
	defer v.Close()
	now, _ := v.Read(ctx) // what cannot be read is as it is recorded
	if name != "" {
		now = fill.Values{answer.AdminName: name, answer.AdminEmail: cmp.Or(now[answer.AdminEmail], found.Admin.Email)}
		v.Stay(v.Site.As(now))
	}
	if err := v.SignsIn(ctx); err != nil {
		return none, notThis(found.Address, v.Site.Admin.Name, err)
	}
	kept := map[string]secret.Text{site.VaultName(found.Address, site.AdminPassword): password}
	if err := l.Book.Vault.Set(kept); err != nil {
		return none, err
	}
	site.Note(&found, now)
	if err := l.Examiner.Record(ctx, found); err != nil {
		return none, err
	}
	return l.Book.Reveal(ctx, found.Address)
}

// notThis is the fault of a password that does not sign in.
func notThis(address, name string, err error) error {
	f := *fault.Of(err)
	f.Where = address
	var refused *setup.Refused
	if f.Kind == fault.NeedsConfirmation || errors.As(err, &refused) {
		f.Kind, f.What = fault.Usage, "the site does not let “"+name+"” in with this password"
		f.Remedy = "Type it as it is in the app, and the name too when that was changed: -a admin.name=NAME. " +
			"Nothing was changed here or there. To have a new one made: " + fault.Call("reveal", address, "--renew")
	}
	return &f
}
