package site

import (
	"context"
	"errors"
	"io"
	"os"
	"path"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
)

// RestoreRequest is a backup that somebody wants back.
type RestoreRequest struct {
	Site     string // a site, or an address where nothing is
	From     string // a backup's name in the account's store, or a file here; "" for the newest
	Account  string // for an address where nothing is
	Identity string // a file here with age's keys
	NoBackup bool   // do not back up what is there first

	keys backup.Keys
}

// Restored is what came of it.
type Restored struct {
	Installed
	From   string
	Backup *BackedUp // of what was there before; nil where none was made
}

// Restore brings back a backup: to where the site is, or to an empty place.
func (s *Service) Restore(ctx context.Context, r RestoreRequest) (*Restored, error) {
	if r.Identity != "" {
		file, err := os.Open(r.Identity)
		if err == nil {
			r.keys, err = backup.ReadKeys(file)
			err = errors.Join(err, file.Close())
		}
		if err != nil {
			return nil, fault.New(fault.Usage, "the key cannot be read", r.Identity, "Name a file that age-keygen wrote.").Because(err)
		}
	}
	if _, err := s.Site(ctx, r.Site); err != nil {
		return s.restoreElsewhere(ctx, r, err)
	}
	h, err := s.hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	defer h.files.Close()
	c, from, done, err := s.chosenBackup(ctx, h, r)
	if err != nil {
		return nil, err
	}
	defer done()
	return s.restore(ctx, h, c, from, r)
}

// chosenBackup opens the backup that is asked for.
func (s *Service) chosenBackup(ctx context.Context, h *held, r RestoreRequest) (c *content, from string, done func(), err error) {
	if _, err := os.Stat(r.From); r.From != "" && err == nil {
		c, err := s.openContent(ctx, r.From, func() (io.ReadCloser, error) { return os.Open(r.From) }, r.keys)
		return c, r.From, func() {}, err
	}
	return s.stored(ctx, h.plan.account, h.files, h.Address, r)
}

// stored opens a backup of an address in the account's store: the one that is
// named, or the newest.
func (s *Service) stored(ctx context.Context, a *account.Account, f files.FS, address string, r RestoreRequest) (c *content, from string, done func(), err error) {
	all, err := backupsIn(ctx, f, backupFolder(a.Store, address))
	if err != nil {
		return nil, "", nil, err
	}
	for _, l := range all {
		if r.From != "" && path.Base(l.File) != path.Base(r.From) {
			continue
		}
		open, done, err := s.fetched(ctx, a, f, l.File)
		if err != nil {
			return nil, "", nil, err
		}
		c, err := s.openContent(ctx, l.File, open, r.keys)
		if err != nil {
			done()
		}
		return c, l.File, done, err
	}
	if r.From != "" {
		return nil, "", nil, fault.New(fault.Usage, "there is no such backup, here or in the account", r.From, "Name a file, or one of those that tivset backup SITE --list shows.")
	}
	return nil, "", nil, fault.New(fault.Usage, "the account has no backup of this site", address, "Name one with --from FILE.")
}

// restore replaces a site by what a backup holds.
func (s *Service) restore(ctx context.Context, h *held, c *content, from string, r RestoreRequest) (*Restored, error) {
	if c.record.App != h.App {
		return nil, fault.New(fault.Usage, "the backup is of another app, "+c.record.App, h.Address, "Restore it to an empty place: tivset restore ADDRESS --from "+from)
	}
	after, err := s.becomes(h, c)
	if err != nil {
		return nil, err
	}
	e, err := s.begin(h)
	if err != nil {
		return nil, err
	}
	done := &Restored{From: from}
	r.keys = nil
	err = e.carryOut(ctx, work{what: "restore", app: h.App, address: h.Address, url: h.URL, request: r, steps: func(ctx context.Context) (steps, error) {
		return e.restoreSteps(ctx, h, c, after, r, done)
	}})
	if err != nil {
		return nil, err
	}
	done.Installed, err = s.installed(ctx, e, h.Address)
	return done, err
}

// becomes is the site's record after it was restored, and its plan.
func (s *Service) becomes(h *held, c *content) (ledger.Site, error) {
	x, old := h.Site, c.record
	x.Release, x.Title, x.Language, x.Admin, x.AdminURL = old.Release, old.Title, old.Language, old.Admin, x.URL+old.AdminURL[len(old.URL):]
	x.Entries, x.Files, x.Bytes, x.Chosen, x.Licence, x.Gone = old.Entries, old.Files, old.Bytes, old.Chosen, old.Licence, ""
	if (old.Database == nil) != (x.Database == nil) || old.Database != nil && (old.Database.Engine != x.Database.Engine || old.Database.Tables != x.Database.Tables) {
		return x, fault.New(fault.Usage, "the backup holds another kind of database than the site has", h.Address, "Restore it to an empty place.")
	}
	p, err := s.planOf(x)
	if err != nil {
		return x, err
	}
	own := p.secrets[dataPassword]
	p.secrets, p.password = c.secrets, c.secrets[adminPassword]
	if !own.Empty() {
		p.secrets[dataPassword] = own
	}
	h.plan = p
	c.before, err = s.valuesOf(old, c.secrets)
	return x, err
}

// restoreSteps lists the steps.
func (e *env) restoreSteps(ctx context.Context, h *held, c *content, after ledger.Site, r RestoreRequest, done *Restored) (steps, error) {
	e.plan = h.plan
	stage := path.Join(e.account.Store, "stage", e.job)
	aside := path.Join(e.account.Store, "aside", e.job)
	claimed, mark := e.claimed(&h.Site)
	list := []job.Step{claimed}
	if !r.NoBackup {
		done.Backup = &BackedUp{}
		step, err := e.backUp(h, "", nil, done.Backup)
		if err != nil {
			return steps{}, err
		}
		list = append(list, step)
	}
	change, err := e.rewriting(ctx, c, h.plan)
	if err != nil {
		return steps{}, err
	}
	list = append(list, &unpackBackup{env: e, Stage: stage, from: c.Backup},
		&prepared{env: e, Label: "Write the configuration", do: (&carryConfig{e, path.Join(stage, backup.Files), c.before}).do})
	if h.Database != nil {
		there, err := e.lostData(ctx, h.plan)
		if err != nil {
			return steps{}, err
		}
		list = append(list, there...)
		data := e.dataOf(h.Database, h.Address)
		list = append(list, &keepData{env: e, Data: data, File: e.keptData(e.job)},
			&loadData{env: e, Label: "Load the database", data: data, script: func(ctx context.Context) (io.ReadCloser, error) { return c.script(ctx, h.plan, change), nil }})
	}
	list = append(list,
		&swapSecrets{env: e, Prefix: vaultName(h.Address, ""), Kept: keptSecrets(e.job), secrets: h.plan.secrets},
		&swap{env: e, Label: "Put the files in place", list: func(ctx context.Context) ([]move, error) { return e.exchange(ctx, h, stage, aside) }},
		&checkSite{env: e},
		&saveSite{env: e, Before: h.Site, after: func(context.Context) (ledger.Site, error) {
			after.UpdatedAt, after.LastJob, after.Health = e.Now().UTC(), e.job, "good"
			if done.Backup != nil {
				after.LastBackupAt = &done.Backup.MadeAt
			}
			return after, nil
		}},
		&dropFiles{env: e, Label: "Take away what was replaced", Names: []string{aside}},
		e.tidyUp(mark))
	return steps{list: list}, nil
}

// exchange lists the moves that take a site's files away and bring those of a
// stage in.
func (e *env) exchange(ctx context.Context, h *held, stage, aside string) ([]move, error) {
	others, err := e.foreign(ctx, h.plan)
	if err != nil {
		return nil, err
	}
	var out []move
	for _, part := range []struct{ name, folder string }{{backup.Files, h.Folder}, {backup.Outside, h.DataFolder}} {
		if part.folder == "" {
			continue
		}
		now, err := movable(ctx, e.files, part.folder, others)
		if err != nil {
			return nil, err
		}
		out = append(out, leaving(now, part.folder, path.Join(aside, part.name))...)
	}
	for _, part := range []struct{ name, folder string }{{backup.Files, h.Folder}, {backup.Outside, h.DataFolder}} {
		if part.folder == "" {
			continue
		}
		come, err := arriving(ctx, e.files, path.Join(stage, part.name), part.folder, others)
		if err != nil {
			return nil, err
		}
		out = append(out, come...)
	}
	return out, nil
}

// lostData makes the steps that make a database and a user again that somebody
// took away; none where they are there.
func (e *env) lostData(ctx context.Context, p *Plan) ([]job.Step, error) {
	d := p.Data
	if d == nil || d.From != dataNew {
		return nil, nil
	}
	server, err := e.connect(ctx, e.account, p.server)
	if err != nil {
		return nil, err
	}
	defer server.Close()
	var steps []job.Step
	databases, err := server.Databases(ctx)
	if err != nil {
		return nil, err
	}
	if !contains(databases, d.Name) {
		steps = append(steps, &makeDatabase{env: e, Server: d.Server, Name: d.Name})
	}
	if d.User == "" {
		return steps, nil
	}
	users, err := server.Users(ctx)
	if err == nil && !contains(users, d.User) {
		steps = append(steps, &makeUser{env: e, Server: d.Server, Name: d.User, Clients: p.server.Clients, Database: d.Name})
	}
	return steps, err
}

// prepared works on what lies in a stage, and goes with it.
type prepared struct {
	*env  `json:"-"`
	Label string `json:"label"`
	do    func(context.Context) error
}

func (*prepared) Kind() string                   { return "prepare" }
func (p *prepared) Title() string                { return p.Label }
func (p *prepared) Do(ctx context.Context) error { return p.do(ctx) }
func (*prepared) Undo(context.Context) error     { return nil }

// installed tells what has become of a site at the end of a job.
func (s *Service) installed(ctx context.Context, e *env, address string) (Installed, error) {
	now, err := s.Ledger.Site(ctx, address)
	if err != nil {
		return Installed{}, err
	}
	s.fillIn(&now)
	return Installed{Job: e.job, Site: now, Password: e.plan.password, Given: true, Checks: e.checks, Warnings: e.plan.Warnings, Todo: e.plan.Todo}, nil
}
