package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/files"
	"tivset/internal/ledger"
)

// Examined is what the checks of a site came to.
type Examined struct {
	Address string    `json:"address"`
	App     string    `json:"app"`
	OK      bool      `json:"ok"`
	Checks  []Checked `json:"checks"`
}

// Check looks at a site as a visitor, as its admin and as a stranger, and
// records how it is. A wrong password is not tried: again and again, that would
// look like an attack and lock the admin out.
func (s *Service) Check(ctx context.Context, x ledger.Site) (Examined, error) {
	e := Examined{Address: x.Address, App: x.App, Checks: []Checked{}}
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
	if e.Checks, err = s.examine(ctx, p, fsys, x); err != nil {
		return e, err
	}
	e.OK = true
	for _, c := range e.Checks {
		e.OK = e.OK && c.OK
	}
	x.Health = "good"
	if !e.OK {
		x.Health = "bad"
	}
	return e, s.Ledger.PutSite(ctx, x)
}

// examine runs all checks, whatever the first of them come to.
func (s *Service) examine(ctx context.Context, p *Plan, fsys files.FS, x ledger.Site) ([]Checked, error) {
	for _, name := range x.Entries {
		there, err := files.Exists(ctx, fsys, x.Folder+"/"+name)
		if err != nil {
			return nil, err
		}
		if !there {
			return []Checked{{"files", false, x.Folder + "/" + name + " is gone. When the site is gone for good: tivset forget " + x.Address}}, nil
		}
	}
	c := &checkSite{env: &env{Service: s, account: p.account, files: fsys, plan: p, count: func(int64, int64, string) {}}}
	r, err := c.runner(ctx, p.Place.Folder, p.Place.URL)
	if err != nil {
		return nil, err
	}
	if r.Data != nil {
		defer r.Data.Close()
	}
	out := []Checked{{"files", true, fmt.Sprintf("all %d entries of the site are there", len(x.Entries))}}
	for _, one := range c.list(ctx, r) {
		if one.name == wrongPassword {
			continue
		}
		if err := one.run(); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			f := fault.Of(err)
			text := err.Error()
			if f.Remedy != "" {
				text += ". " + f.Remedy
			}
			out = append(out, Checked{one.name, false, text})
			continue
		}
		out = append(out, Checked{one.name, true, one.detail})
	}
	c.lookAtDenied(ctx, r)
	for _, w := range p.Warnings {
		out = append(out, Checked{"private files", false, w})
	}
	return out, nil
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
