package step

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"tivset/internal/answer"
	"tivset/internal/app/kit"
	"tivset/internal/app/setup"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// CheckSite proves that the site works before anybody says so.
type CheckSite struct {
	*Tools `json:"-"`
	lasting

	Lenient bool        `json:"-"` // what fails is noted, and does not stop the job
	Asked   bool        `json:"-"` // the site is new: it has the title and the admin that were asked for
	Unsure  bool        `json:"-"` // nobody knows whether the stored password is the app's: one that is refused is noted
	Known   secret.Text `json:"-"` // when Unsure: another that may be
	Guard   *Guard      `json:"-"` // what keeps visitors out meanwhile, or nil
	Before  *time.Time  `json:"-"` // when the site was looked at last at another place, or nil
}

// Kind and Title implement job.Step.
func (*CheckSite) Kind() string  { return "check" }
func (*CheckSite) Title() string { return "Check the site" }

// Do checks; the first that fails stops the job.
func (c *CheckSite) Do(ctx context.Context) error {
	c.Guard.holds(ctx)
	ctx = c.Guard.Bring(ctx)
	v := &check.Visit{Site: c.Site, In: c.In, Maker: c.Maker, Now: c.Now}
	if err := v.Open(); err != nil {
		return err
	}
	defer v.Close()
	if err := c.read(ctx, v); err != nil {
		return err
	}
	all := c.seldom(ctx, v.Checks())
	c.Count(0, int64(len(all)), "checks")
	for i, came := range v.Together(ctx, all) {
		one, err := all[i], came.Err
		c.Count(int64(i+1), int64(len(all)), "checks")
		if err == nil {
			c.Result.Checks = append(c.Result.Checks, check.Checked{Name: one.Name, OK: true, Detail: one.Detail})
			continue
		}
		if c.Unsure && one.Name == check.SignIn {
			if err = c.otherPassword(ctx, v, err); err == nil {
				continue
			}
		}
		c.Result.Checks = append(c.Result.Checks, check.Checked{Name: one.Name, Detail: err.Error()})
		if (c.Lenient || fault.Of(err).Kind == fault.NeedsConfirmation) && ctx.Err() == nil {
			c.Result.Warn("check of the " + one.Name + ": " + check.Worded(err))
			continue
		}
		f := *fault.Of(err)
		f.What = "check of the " + one.Name + ": " + f.What
		return &f
	}
	c.Result.warnLeft()
	return c.exposed(ctx, v)
}

// exposed notes what strangers see and must not, as every later look at the site does. It stops no job: mostly only
// the host can change it.
func (c *CheckSite) exposed(ctx context.Context, v *check.Visit) error {
	found, err := v.Hidden(ctx)
	if err != nil {
		return err
	}
	x, err := c.Book.Ledger.Site(ctx, c.Site.Address())
	if err != nil && !errors.Is(err, fs.ErrNotExist) { // a new one has accepted nothing
		return err
	}
	x.Address = c.Site.Address()
	for _, one := range found.Checks(x) {
		if !one.OK {
			c.Result.Warn(one.Name + ": " + one.Detail)
		}
		c.Result.Checks = append(c.Result.Checks, one)
	}
	return nil
}

// seldom leaves the wrong password out of a site that was looked at lately: one job
// after the other that tries one would lock the admin out.
func (c *CheckSite) seldom(ctx context.Context, all []check.Check) []check.Check {
	at := c.Before
	if x, err := c.Book.Ledger.Site(ctx, c.Site.Address()); err == nil {
		at = x.CheckedAt
	}
	if c.Asked || !check.Lately(at, c.Now()) {
		return all
	}
	return slices.DeleteFunc(all, func(one check.Check) bool { return one.Name == check.WrongPassword })
}

// read has the site be as it says of itself, and notes that. One that was just
// made says what was asked for; else its kit is wrong, and that is told.
func (c *CheckSite) read(ctx context.Context, v *check.Visit) error {
	asked, err := c.Site.Values(c.Tools.Now())
	if err != nil {
		return err
	}
	now, err := v.Read(ctx)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err != nil {
		c.Result.Warn("what the site says of itself cannot be told: " + strings.ReplaceAll(err.Error(), "\n", "; "))
	}
	if c.Asked {
		v.Stay(c.Site)
		for _, name := range []string{"title", answer.AdminName, answer.AdminEmail} {
			if got, read := now[name]; read && got != asked[name] {
				c.Result.Warn(fmt.Sprintf("the site says that the %s is %q, not %q: tell the kit's author",
					kit.NowWord(name), got, asked[name]))
			}
		}
		return nil
	}
	c.Result.Now = now
	return nil
}

// otherPassword signs in with the other password that may be right, and keeps it
// as the site's. The refusal of both is a decision for the owner.
func (c *CheckSite) otherPassword(ctx context.Context, v *check.Visit, err error) error {
	var refused *setup.Refused
	if !errors.As(err, &refused) {
		return err
	}
	if !c.Known.Empty() && c.Known != c.Site.Password() {
		v.Stay(v.Site.With(map[string]secret.Text{site.AdminPassword: c.Known}))
		if err := v.SignsIn(ctx); err == nil {
			c.Result.Checks = append(c.Result.Checks, check.Checked{Name: check.SignIn, OK: true,
				Detail: "the admin can sign in, with the password that the site had before"})
			return c.Book.Vault.Set(map[string]secret.Text{site.VaultName(c.Site.Address(), site.AdminPassword): c.Known})
		}
	}
	return site.Stale(c.Site.Address(), err)
}
