package site

import (
	"context"
	"errors"
	"io"
	"maps"
	"os"
	"path"

	"tivset/internal/answer"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/courier"
	"tivset/internal/hosting/database"
	"tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
)

// CopyRequest is a site that somebody wants at another place too, or instead.
type CopyRequest struct {
	Site     string
	At       string
	Account  string // of the new place; "" when only one can be meant
	Answers  answer.Given
	Move     bool
	Redirect bool // with Move: the old address leads to the new one
}

// open is the request without secrets.
func (r CopyRequest) open(k *kit.Kit) CopyRequest {
	r.Answers = maps.Clone(r.Answers)
	for _, id := range append(secretIDs(k), adminPassword, dataPassword) {
		delete(r.Answers, id)
	}
	return r
}

// CopyPlan is a copy or a move that was looked at and not begun.
type CopyPlan struct {
	*Plan
	From ledger.Site
	Move bool

	request  CopyRequest
	source   *held
	content  *content
	redirect bool
}

// Close lets go of the account that is copied from.
func (c *CopyPlan) Close() error { return c.source.files.Close() }

// PlanCopy works out what a copy or a move will do. The caller closes it.
func (s *Service) PlanCopy(ctx context.Context, r CopyRequest) (*CopyPlan, error) {
	h, err := s.hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	c := &content{record: h.Site, secrets: h.plan.secrets}
	if c.before, err = h.plan.values(s.Now()); err != nil {
		return nil, errors.Join(err, h.files.Close())
	}
	p, err := s.placed(ctx, c, r, !r.Move)
	if err != nil {
		return nil, errors.Join(err, h.files.Close())
	}
	return &CopyPlan{Plan: p, From: h.Site, Move: r.Move, request: r, source: h, content: c, redirect: r.Redirect}, nil
}

// placed plans the content at another place.
func (s *Service) placed(ctx context.Context, c *content, r CopyRequest, quiet bool) (*Plan, error) {
	k, err := s.Catalogue.Find(c.record.App)
	if err != nil {
		return nil, err
	}
	given := c.answers()
	if folder := k.Place.AdminFolder; folder != "" {
		given["admin.folder"] = adminFolder(c.record)
	}
	if d := c.record.Database; d != nil && r.Answers["data.from"] == "" && k.UsesTables() {
		given["data.tables"] = d.Tables
	}
	if k.AccountElsewhere() { // whose password nobody makes here
		given["admin.password"] = c.secrets[adminPassword].Reveal()
	}
	if quiet && hasExtra(k.Kit, searchEngines) {
		given["extra."+searchEngines] = "no"
	}
	maps.Copy(given, r.Answers)
	p, err := s.Plan(ctx, Request{App: c.record.App, At: r.At, Release: c.record.Release, Account: r.Account, Answers: given, content: c})
	if err != nil {
		return nil, err
	}
	if d := c.record.Database; d != nil && p.Data.Engine != d.Engine {
		return nil, fault.New(fault.Usage, "the data is of "+engineName(d.Engine)+", and the account has only "+engineName(p.Data.Engine)+" for it", p.Account, "Name a server of that engine with -a data.server=NAME, or another account.")
	}
	return p, nil
}

// searchEngines is the extra that shows a site to search engines.
const searchEngines = "search-engines"

func hasExtra(k *kit.Kit, id string) bool {
	for _, e := range k.Extras {
		if e.ID == id {
			return true
		}
	}
	return false
}

// Copy carries a plan out.
func (s *Service) Copy(ctx context.Context, c *CopyPlan) (*Installed, error) {
	what := "copy"
	if c.Move {
		what = "move"
	}
	return s.place(ctx, c, what)
}

// restoreElsewhere brings a backup to a place where nothing is: a file of this
// machine, or what the account keeps of a site that was there. Unknown says why
// the place is taken for empty.
func (s *Service) restoreElsewhere(ctx context.Context, r RestoreRequest, unknown error) (*Restored, error) {
	c, from, done, err := s.contentFor(ctx, r)
	if err != nil {
		if r.From == "" {
			return nil, unknown
		}
		return nil, err
	}
	defer done()
	if c.before, err = s.valuesOf(c.record, c.secrets); err != nil {
		return nil, err
	}
	request := CopyRequest{Site: from, At: r.Site, Account: r.Account}
	p, err := s.placed(ctx, c, request, false)
	if err != nil {
		return nil, err
	}
	placed, err := s.place(ctx, &CopyPlan{Plan: p, From: c.record, content: c, request: request}, "restore")
	if err != nil {
		return nil, err
	}
	return &Restored{Installed: *placed, From: from}, nil
}

// contentFor opens the backup for a place where nothing is.
func (s *Service) contentFor(ctx context.Context, r RestoreRequest) (c *content, from string, done func(), err error) {
	if _, err := os.Stat(r.From); r.From != "" && err == nil {
		c, err := s.openContent(ctx, r.From, func() (io.ReadCloser, error) { return os.Open(r.From) }, r.keys)
		return c, r.From, func() {}, err
	}
	a, err := s.account(r.Account, r.Site)
	if err != nil {
		return nil, "", nil, err
	}
	at, err := resolve(r.Site, a.Domains)
	if err != nil {
		return nil, "", nil, err
	}
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		return nil, "", nil, unreachable(a, err)
	}
	c, from, dropped, err := s.stored(ctx, a, fsys, at.Address(), r)
	if err != nil {
		return nil, "", nil, errors.Join(err, fsys.Close())
	}
	return c, from, func() {
		dropped()
		_ = fsys.Close()
	}, nil
}

// place carries out the job that makes a site of content.
func (s *Service) place(ctx context.Context, c *CopyPlan, what string) (*Installed, error) {
	p := c.Plan
	e, letGo, err := s.planned(ctx, p)
	if err != nil {
		return nil, err
	}
	defer letGo()
	address := p.place.Address()
	err = e.carryOut(ctx, work{what: what, app: p.App, address: address, url: p.Place.URL, request: c.request.open(p.kit.Kit), steps: func(ctx context.Context) (steps, error) {
		return e.placeSteps(ctx, c, what)
	}})
	if err != nil {
		return nil, err
	}
	done, err := s.installed(ctx, e, address)
	return &done, err
}

// placeSteps lists the steps.
func (e *env) placeSteps(ctx context.Context, c *CopyPlan, what string) (steps, error) {
	p, address, store := e.plan, e.plan.place.Address(), e.account.Store
	stage := path.Join(store, "stage", e.job)
	claimed, mark := &claim{env: e, Marker: markerName(store, address), Address: address, Store: store}, markerName(store, address)
	list := []job.Step{claimed}
	var temporary string
	if c.source != nil {
		taken, file, err := e.take(c)
		if err != nil {
			return steps{}, err
		}
		temporary = file
		list = append(list, taken...)
	}
	list = append(list, &keepSecrets{env: e, Prefix: vaultName(address, "")},
		&proveDomain{env: e, Folder: p.place.Domain.Folder, URL: p.place.Domain.URL, Name: "tivset-" + e.job + ".txt"})
	asks, bearer, err := e.askPHP()
	if err != nil {
		return steps{}, err
	}
	list = append(append(list, asks...), e.dataSteps()...)
	if p.Place.DataFolder != "" {
		list = append(list, &makeFolder{env: e, Folder: p.Place.DataFolder})
	}
	unpacked := &unpackBackup{env: e, Stage: stage, from: c.content.Backup}
	list = append(list, unpacked, &prepared{env: e, Label: "Write the configuration", do: func(ctx context.Context) error {
		return (&carryConfig{e, path.Join(stage, backup.Files), c.content.before}).do(ctx)
	}})
	if c.source != nil {
		unpacked.later = func() *backup.Backup { return c.content.Backup }
	}
	change, err := e.rewriting(ctx, c.content, p)
	if err != nil {
		return steps{}, err
	}
	if p.Data != nil {
		data := e.dataOf(recorded(p), address)
		list = append(list, &loadData{env: e, Label: "Load the database", data: data,
			options: database.ScriptOptions{From: renamed(c.From.Database.Tables, p.Data.Tables), To: p.Data.Tables},
			script:  func(ctx context.Context) (io.ReadCloser, error) { return c.content.script(ctx, p, change), nil }})
	}
	run, err := e.runner(ctx, path.Join(stage, backup.Files), p.Place.URL)
	if err != nil {
		return steps{}, err
	}
	if what == "copy" {
		for i, s := range p.kit.Copied {
			if holds(s.When, p.answers) {
				list = append(list, &setUp{env: e, N: i, Label: "Keep the copy quiet", step: s, run: run})
			}
		}
	}
	if len(p.aside) > 0 {
		list = append(list, &setAside{env: e, From: p.asideFrom, To: path.Join(store, "aside", e.job), Entries: p.aside})
	}
	list = append(list, &putInPlace{env: e, Stage: path.Join(stage, backup.Files), Target: p.Place.Folder})
	if p.Place.DataFolder != "" {
		list = append(list, &swap{env: e, Label: "Put the files outside of the web in place", list: func(ctx context.Context) ([]move, error) {
			return arriving(ctx, e.files, path.Join(stage, backup.Outside), p.Place.DataFolder, nil)
		}})
	}
	list = append(list, &checkSite{env: e})
	last, err := e.aroundSteps(bearer)
	if err != nil {
		return steps{}, err
	}
	list = append(list, last...)
	list = append(list, &recordSite{env: e, Address: address, as: func(x *ledger.Site) { c.recordAs(x, what) }})
	if c.Move {
		old, err := e.removal(ctx, c.source, RemoveRequest{})
		if err != nil {
			return steps{}, err
		}
		old.Redirect = map[bool]string{true: p.Place.URL}[c.redirect]
		if c.From.Account == p.Account {
			old.Backups = backupFolder(store, address)
		}
		list = append(list, old)
	}
	if temporary != "" {
		list = append(list, &dropHere{Name: temporary})
	}
	done := func() {
		if run.Data != nil {
			_ = run.Data.Close()
		}
		if temporary != "" {
			_ = os.Remove(temporary)
		}
	}
	return steps{append(list, e.tidyUp(mark)), done}, nil
}

// recordAs notes where the site comes from.
func (c *CopyPlan) recordAs(x *ledger.Site, what string) {
	switch what {
	case "copy":
		x.CopyOf = c.From.Address
	case "move":
		x.InstalledAt, x.CopyOf, x.Adopted, x.LastBackupAt = c.From.InstalledAt, c.From.CopyOf, c.From.Adopted, c.From.LastBackupAt
	}
	x.LastJob, x.Licence = x.Job, c.From.Licence
}

// take makes the steps that back the source up into a file of this machine.
func (e *env) take(c *CopyPlan) ([]job.Step, string, error) {
	file, err := e.temporary()
	if err != nil {
		return nil, "", err
	}
	name := file.Name()
	if err := errors.Join(file.Close(), os.Remove(name)); err != nil {
		return nil, "", err
	}
	from := &env{Service: e.Service, account: c.source.plan.account, files: c.source.files, plan: c.source.plan, job: e.job, count: func(n, of int64, unit string) { e.count(n, of, unit) }}
	step := &backUp{env: from, site: c.From, made: &BackedUp{MadeAt: e.Now().UTC()}, Kept: Kept{name, true}}
	steps := []job.Step{step, &prepared{env: e, Label: "Read it again", do: func(ctx context.Context) error {
		b, err := backup.Open(ctx, func() (io.ReadCloser, error) { return os.Open(name) }, nil)
		c.content.Backup = b
		return err
	}}}
	if from.account.Name == e.account.Name {
		held, mark := from.claimed(&c.From)
		steps = append([]job.Step{held}, append(steps, &unclaim{env: e, Marker: mark})...)
		if c.Move { // the place is held until all of it is gone
			steps = steps[:len(steps)-1]
		}
	}
	return steps, name, nil
}

// unclaim lets a place go that was only looked at.
type unclaim struct {
	*env   `json:"-"`
	Marker string `json:"marker"`
}

func (*unclaim) Kind() string               { return "unclaim" }
func (*unclaim) Title() string              { return "Let the original go" }
func (*unclaim) Undo(context.Context) error { return nil }
func (u *unclaim) Do(ctx context.Context) error {
	return dropMarker(ctx, u.files, u.Marker, u.job)
}

// dropHere takes a file of this machine away.
type dropHere struct {
	Name string `json:"name"`
}

func (*dropHere) Kind() string               { return "drop-here" }
func (*dropHere) Title() string              { return "Tidy up here" }
func (*dropHere) Undo(context.Context) error { return nil }
func (d *dropHere) Do(context.Context) error {
	if err := os.Remove(d.Name); err != nil && !os.IsNotExist(err) {
		return err
	}
	return nil
}

// renamed is the prefix to replace, "" when it stays.
func renamed(from, to string) string {
	if from == to || to == "" {
		return ""
	}
	return from
}

// recorded is a plan's database as the ledger has it.
func recorded(p *Plan) *ledger.Database {
	d := p.Data
	return &ledger.Database{Engine: d.Engine, Server: d.Server, Name: d.Name, User: d.User, Tables: d.Tables, From: d.From}
}

// askPHP makes the step that asks the place's PHP, where the app needs one.
func (e *env) askPHP() ([]job.Step, courier.Place, error) {
	p := e.plan
	if p.release.Needs.PHP == nil && !inside(p.server) {
		return nil, courier.Place{}, nil
	}
	place, err := e.courierPlace()
	return []job.Step{&sendCourier{env: e, Place: place}}, place, err
}

// dataSteps makes the steps that give the site a database.
func (e *env) dataSteps() []job.Step {
	p := e.plan
	switch d := p.Data; {
	case d == nil:
		return nil
	case d.Engine == account.SQLite:
		return []job.Step{
			&makeFolder{env: e, Folder: path.Dir(database.File(p.server.Server, d.Name)), Mode: 0o770},
			&makeDatabase{env: e, Server: d.Server, Name: d.Name}}
	case d.From == dataNew:
		return []job.Step{
			&makeDatabase{env: e, Server: d.Server, Name: d.Name},
			&makeUser{env: e, Server: d.Server, Name: d.User, Clients: d.Clients, Database: d.Name}}
	default:
		return []job.Step{&useDatabase{env: e, Server: d.Server, Engine: d.Engine, Name: d.Name, User: d.User, Tables: d.Tables, Secret: vaultName(p.place.Address(), dataPassword),
			Place: courier.Place{Root: p.place.Domain.Folder, URL: p.place.Domain.URL, Store: e.account.Store}}}
	}
}
