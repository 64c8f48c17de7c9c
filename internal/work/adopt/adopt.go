// Package adopt is the way of an app that was installed by other means into the
// book: it is found by its kit's marks, its configuration is read, nothing of it
// is changed.
package adopt

import (
	"context"
	"errors"
	"slices"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/kit"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/work"
)

// Way is this way's line in the table. It is no job: it changes nothing in the
// account, and so has nothing to be undone.
func Way() work.Operation { return work.Operation{Name: "adopt", Past: "adopted"} }

// Request is an app that was installed by other means.
type Request struct {
	At      string
	Account string
	Answers answer.Given // see Answers
}

// Answers are those that an adoption has a use for.
var Answers = []string{"title", answer.AdminName, site.AdminPassword, answer.AdminEmail}

// Adopt takes charge of an app that is there. It is recorded only when the admin
// can sign in.
func Adopt(ctx context.Context, d *work.Service, r Request) (check.Examined, error) {
	in, x, secrets, err := look(ctx, d, r)
	if err != nil {
		return check.Examined{}, err
	}
	defer in.Close()
	var none check.Examined
	token, err := d.Maker.Token(4)
	if err != nil {
		return none, err
	}
	x.Job = job.NewID(d.Now(), token)
	done, err := takeCharge(ctx, d, in, x, secrets)
	if err != nil {
		return done, err
	}
	return done, d.Book.Ledger.PutJob(ctx, ledger.Job{ID: x.Job, What: Way().Name, App: x.App, Account: x.Account,
		Address: x.Address, Started: x.InstalledAt, Ended: &x.InstalledAt, Outcome: ledger.Done})
}

// Look says which site an app would be recorded as; nothing is recorded.
func Look(ctx context.Context, d *work.Service, r Request) (ledger.Site, error) {
	in, x, _, err := look(ctx, d, r)
	if err != nil {
		return x, err
	}
	return x, in.Close()
}

// look finds an app, with its account open, and describes it as a site.
func look(ctx context.Context, d *work.Service, r Request) (in *hosting.Account, x ledger.Site,
	secrets map[string]secret.Text, err error) {
	a, err := d.Book.Account(r.Account, r.At)
	if err != nil {
		return nil, x, nil, err
	}
	at, err := site.Resolve(r.At, a.Domains)
	if err != nil {
		return nil, x, nil, err
	}
	known, err := d.Book.Has(ctx, at.Address())
	if err != nil {
		return nil, x, nil, err
	}
	if known {
		return nil, x, nil, fault.New(fault.Usage, "this site is known already", at.Address(), "Look at it with: "+
			fault.Call("show", at.Address()))
	}
	if in, err = d.Hosting.Open(ctx, a); err != nil {
		return nil, x, nil, err
	}
	found, err := read(ctx, d, in, at)
	if err == nil {
		x, secrets, err = found.record(d.Now(), r.Answers)
	}
	if err != nil {
		return nil, x, nil, errors.Join(err, in.Close())
	}
	return in, x, secrets, nil
}

// takeCharge records a site that passes its checks; of one that does not nothing
// is kept.
func takeCharge(ctx context.Context, d *work.Service, in *hosting.Account, x ledger.Site,
	secrets map[string]secret.Text) (check.Examined, error) {
	named := map[string]secret.Text{}
	for name, v := range secrets {
		named[site.VaultName(x.Address, name)] = v
	}
	if err := d.Book.Vault.Set(named); err != nil {
		return check.Examined{}, err
	}
	done, err := examine(ctx, d, in, &x)
	for _, c := range done.Checks {
		if err == nil && !c.OK && slices.Contains([]string{check.FrontPage, check.SignIn, check.Database}, c.Name) {
			err = fault.New(fault.Failed, "the site was found and does not pass the check of the "+c.Name, x.URL,
				"Nothing was recorded. "+because(c))
		}
	}
	if err == nil {
		err = d.Book.Ledger.PutSite(ctx, x)
	}
	if err != nil {
		return done, errors.Join(err, d.Book.Vault.Forget(site.VaultName(x.Address, "")))
	}
	return done, nil
}

// NoSignIn says whether an app was looked at whose admin does not sign in.
func NoSignIn(e check.Examined) bool {
	return slices.ContainsFunc(e.Checks, func(c check.Checked) bool { return c.Name == check.SignIn && !c.OK })
}

// because says why a check was not passed. What a recorded site's owner could do about its
// password would lead nowhere here.
func because(c check.Checked) string {
	if c.Name == check.SignIn {
		return "Give the admin's name and password as they are in the app."
	}
	return c.Detail
}

// examine examines a site that is not recorded yet, and completes its record.
func examine(ctx context.Context, d *work.Service, in *hosting.Account, x *ledger.Site) (check.Examined, error) {
	s, err := d.Book.From(*x)
	if err != nil {
		return check.Examined{}, err
	}
	if x.Entries, err = entries(ctx, d, in, s); err != nil {
		return check.Examined{}, err
	}
	return d.Examiner.Examine(ctx, in, s, x)
}

// entries lists what in the folder is the app's: what its release has; where
// that cannot be had, all that is nobody else's.
func entries(ctx context.Context, d *work.Service, in *hosting.Account, s *site.Site) ([]string, error) {
	folder := s.Place.Folder
	inside, err := in.Files.List(ctx, folder)
	if err != nil {
		return nil, err
	}
	others, err := d.Book.Foreign(ctx, s)
	if err != nil {
		return nil, err
	}
	of, unknown := s.Content(ctx, d.Archives)
	var out []string
	for _, i := range inside {
		full := folder + "/" + i.Name
		theirs := others.Has(full) || others.Below(full)
		own := slices.ContainsFunc(s.Kit.Config,
			func(c kit.Config) bool { return strings.HasPrefix(c.Path+"/", i.Name+"/") })
		if !theirs &&
			(unknown != nil || own || i.Name == s.Place.AdminFolder || slices.Contains(of.Survey.Entries, i.Name)) {
			out = append(out, i.Name)
		}
	}
	return out, nil
}
