package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
)

// Examined is what the checks of a site came to.
type Examined struct {
	Address string    `json:"address"`
	App     string    `json:"app"`
	OK      bool      `json:"ok"`
	Checks  []Checked `json:"checks"`
	Compared
}

// Check looks at a site as a visitor, as its admin and as a stranger, and
// records how it is.
func (s *Service) Check(ctx context.Context, x ledger.Site) (Examined, error) {
	e := Examined{Address: x.Address, App: x.App, Checks: []Checked{}, Compared: Compared{[]string{}, []string{}, []string{}}}
	p, err := s.planOf(x)
	if err != nil {
		return e, err
	}
	if p.password.Empty() {
		return e, fault.New(fault.Usage, "the vault has no password of this site", x.Address, "Without it nobody can see whether signing in works. Have a new one made: tivset reveal "+x.Address+" --renew")
	}
	fsys, err := s.OpenFiles(ctx, p.account)
	if err != nil {
		return e, unreachable(p.account, err)
	}
	defer fsys.Close()
	l := &looking{env: &env{Service: s, account: p.account, files: fsys, plan: p, count: func(int64, int64, string) {}}, site: x}
	if err := l.all(ctx); err != nil {
		return e, err
	}
	e.Checks, e.Compared, e.OK = l.out, l.found, true
	for _, c := range e.Checks {
		e.OK = e.OK && c.OK
	}
	now := s.Now().UTC()
	l.site.CheckedAt, l.site.Health = &now, "good"
	switch {
	case l.site.Gone != "":
		l.site.Health = "gone"
	case !e.OK:
		l.site.Health = "bad"
	}
	return e, s.recordLook(ctx, l.site)
}

// recordLook keeps what a look at a site found, unless a job has changed the
// site meanwhile.
func (s *Service) recordLook(ctx context.Context, x ledger.Site) error {
	now, err := s.Ledger.Site(ctx, x.Address)
	if errors.Is(err, fs.ErrNotExist) || err == nil && now.LastJob != x.LastJob {
		return nil
	}
	if err != nil {
		return err
	}
	return s.Ledger.PutSite(ctx, x)
}

// all runs every check, whatever the first of them come to.
func (l *looking) all(ctx context.Context) error {
	if gone, err := l.isGone(ctx); err != nil || gone {
		return err
	}
	if err := l.ownFiles(ctx); err != nil {
		return err
	}
	if err := l.asVisitor(ctx); err != nil {
		return err
	}
	for _, look := range []func(context.Context) error{l.permissions, l.leftovers} {
		if err := look(ctx); err != nil {
			return err
		}
	}
	l.certificate(ctx)
	l.space(ctx)
	l.timer(ctx)
	l.updates()
	return l.sizes(ctx, l.databasesOf(ctx, l.account))
}

// isGone says whether the site's files are not there any more.
func (l *looking) isGone(ctx context.Context) (bool, error) {
	x := &l.site
	gone := 0
	for _, name := range x.Entries {
		there, err := files.Exists(ctx, l.files, x.Folder+"/"+name)
		if err != nil {
			return false, err
		}
		if !there {
			gone++
		}
	}
	if gone == 0 || gone < len(x.Entries) {
		if x.Gone == onlyFiles {
			x.Gone = ""
		}
		return false, nil
	}
	x.Gone = onlyFiles
	l.add("files", false, "all in %s is gone. To have it back: tivset restore %s. When it is gone for good: tivset forget %s", x.Folder, x.Address, x.Address)
	return true, nil
}

// asVisitor checks what visitors, the admin and strangers see.
func (l *looking) asVisitor(ctx context.Context) error {
	l.once = true
	c := &checkSite{env: l.env}
	r, err := c.runner(ctx, l.plan.Place.Folder, l.plan.Place.URL)
	if err != nil {
		return err
	}
	if r.Data != nil {
		defer r.Data.Close()
	}
	for _, one := range l.inOrder(c.list(ctx, r)) {
		begun := time.Now()
		if err := one.run(); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			text := err.Error()
			if f := fault.Of(err); f.Remedy != "" {
				text += ". " + f.Remedy
			}
			l.add(one.name, false, "%s", text)
			continue
		}
		if one.name == frontPage {
			one.detail += fmt.Sprintf(", in %.2f s", time.Since(begun).Seconds())
		}
		l.add(one.name, true, "%s", one.detail)
	}
	c.lookAtDenied(ctx, r)
	for _, w := range l.plan.Warnings {
		l.add("private files", false, "%s", w)
	}
	return nil
}

// wrongSeldom is how seldom a wrong password is tried: more often, that would
// look like an attack, and lock the admin out.
const wrongSeldom = 12 * time.Hour

// inOrder has a wrong password tried seldom, and then before the right one,
// which makes apps forget it.
func (l *looking) inOrder(all []check) []check {
	wrong := slices.IndexFunc(all, func(c check) bool { return c.name == wrongPassword })
	one := all[wrong]
	all = slices.Delete(all, wrong, wrong+1)
	if l.site.CheckedAt != nil && l.Now().Sub(*l.site.CheckedAt) < wrongSeldom {
		return all
	}
	return slices.Insert(all, 1, one) // behind the front page
}

// planOf is the plan of a site that is there, as far as checks need one.
func (s *Service) planOf(x ledger.Site) (*Plan, error) {
	a, err := s.Home.Account(x.Account)
	if err != nil {
		return nil, err
	}
	entry, err := s.Catalogue.Find(x.App)
	if err != nil {
		return nil, err
	}
	p := &Plan{kit: entry, account: a, App: x.App, Title: entry.Title, Release: x.Release, Account: x.Account, answers: answer.Given{},
		Admin: PlanAdmin{Name: x.Admin.Name, Email: x.Admin.Email}, Site: PlanSite{Title: x.Title, Language: x.Language}}
	if p.release = entry.Find(x.Release); p.release == nil {
		return nil, fault.New(fault.Usage, "the kit of "+entry.Title+" does not know this release any more", x.Release+" of "+x.Address, "Add the catalogue that it came from.")
	}
	if p.place, err = resolve(x.URL, a.Domains); err != nil {
		return nil, err
	}
	p.Place = PlanPlace{URL: x.URL, Folder: x.Folder, DataFolder: x.DataFolder}
	if entry.Place.AdminFolder != "" {
		p.Place.AdminFolder = adminFolder(x)
	}
	for _, c := range x.Chosen {
		p.answers[c.ID] = c.Answer
		if text := p.remembered()[c.ID]; text != nil {
			*text = c.Answer
		}
	}
	if d := x.Database; d != nil {
		p.Data = &PlanData{From: d.From, Engine: d.Engine, Server: d.Server, Name: d.Name, User: d.User, Tables: d.Tables}
		if p.server = a.Database(d.Server, d.Engine); p.server == nil {
			return nil, fault.New(fault.Usage, "the account has no database server "+d.Server+" any more", x.Address, "Add it to the account again.")
		}
	}
	return p, s.rememberSecrets(p, x)
}

// rememberSecrets takes a site's secrets from the vault.
func (s *Service) rememberSecrets(p *Plan, x ledger.Site) error {
	p.secrets = map[string]secretText{}
	for _, name := range append(p.kit.VaultNames(), adminPassword, dataPassword) {
		kept, err := s.Vault.Get(vaultName(x.Address, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		p.secrets[name] = kept
	}
	p.password = p.secrets[adminPassword]
	return nil
}

// adminFolder is the name that the folder of a site's admin side has.
func adminFolder(x ledger.Site) string {
	name, _, _ := strings.Cut(strings.TrimPrefix(x.AdminURL, x.URL), "/")
	return name
}
