package site

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"
	"syscall"

	"tivset/internal/account"
	"tivset/internal/courier"
	"tivset/internal/database"
	"tivset/internal/fault"
	"tivset/internal/fill"
	"tivset/internal/job"
	"tivset/internal/ledger"
	"tivset/internal/secret"
)

// Installed is what an install came to.
type Installed struct {
	Job      string
	Site     ledger.Site
	Password secret.Text
	Given    bool // the password is the owner's own
	Checks   []Checked
	Warnings []string
	Reviewed int      // how many of the warnings the review had said
	Todo     []string // what is left for the owner to do
}

// Install carries out a plan. It returns either the checked site, or a fault
// after everything was undone (Failed) or with something left (Left).
func (s *Service) Install(ctx context.Context, p *Plan) (*Installed, error) {
	fsys, err := s.OpenFiles(ctx, p.account)
	if err != nil {
		return nil, unreachable(p.account, err)
	}
	defer fsys.Close()
	token, err := s.Maker.Token(4)
	if err != nil {
		return nil, err
	}
	started := s.Now()
	e := &env{Service: s, account: p.account, files: fsys, plan: p, job: job.NewID(started, token)}
	runner := &job.Runner{Progress: s.Progress, Again: comesBack, Patience: s.Patience}
	e.count = e.counter(runner)
	steps, letGo, err := e.steps(ctx)
	if err != nil {
		return nil, err
	}
	defer letGo()
	request, err := json.Marshal(again{p.Saved(), p.Admin.Generated, p.givenSecrets()})
	if err != nil {
		return nil, err
	}
	header := job.Header{ID: e.job, What: "install", Account: p.Account, Address: p.place.Address(), Request: request}
	if runner.Journal, err = job.Begin(s.Home.Journals(), header, steps, s.Now); err != nil {
		return nil, err
	}
	defer runner.Journal.Close()
	entry := ledger.Job{ID: e.job, What: "install", App: p.App, Account: p.Account, Address: header.Address, Started: started.UTC(), Outcome: "running"}
	if err := s.Ledger.PutJob(ctx, entry); err != nil {
		return nil, err
	}
	reviewed := len(p.Warnings)
	runErr := runner.Run(ctx, steps)
	if err := s.endJob(entry, "installed", runErr); err != nil {
		return nil, err
	}
	if runErr != nil {
		return nil, stoppedFault(ctx, p, runErr)
	}
	recorded, err := s.Ledger.Site(ctx, header.Address)
	if err != nil {
		return nil, err
	}
	s.fillIn(&recorded)
	done := &Installed{Job: e.job, Site: recorded, Password: p.password, Given: !p.Admin.Generated, Checks: e.checks, Warnings: p.Warnings, Reviewed: reviewed, Todo: p.Todo}
	if warning := s.sendDetails(ctx, p, done); warning != "" {
		done.Warnings = append(done.Warnings, warning)
	}
	return done, nil
}

// comesBack says whether an error is one that may pass by waiting.
func comesBack(err error) bool { return errors.Is(err, database.ErrGone) }

// counter makes the callback with which a step tells how far it is.
func (e *env) counter(r *job.Runner) func(int64, int64, string) {
	if e.Progress == nil {
		return func(int64, int64, string) {}
	}
	var last job.Event
	report := e.Progress
	r.Progress = func(event job.Event) {
		last = event
		report(event)
	}
	return func(count, total int64, unit string) {
		event := last
		event.Count, event.Total, event.Unit = count, total, unit
		report(event)
	}
}

// steps lists the steps of the install. Done lets go of what they share.
func (e *env) steps(ctx context.Context) (steps []job.Step, done func(), err error) {
	p := e.plan
	address, store := p.place.Address(), e.account.Store
	mark := markerName(store, address)
	stage, err := e.stage()
	if err != nil {
		return nil, nil, err
	}
	run, err := e.runner(ctx, stage.folder, stage.base)
	if err != nil {
		return nil, nil, err
	}
	done = func() {
		if run.Data != nil {
			_ = run.Data.Close()
		}
	}
	steps = append(steps,
		&claim{env: e, Marker: mark, Address: address, Store: store},
		&keepSecrets{env: e, Prefix: vaultName(address, "")},
		&proveDomain{env: e, Folder: p.place.Domain.Folder, URL: p.place.Domain.URL, Name: "tivset-" + e.job + ".txt"})
	var bearer courier.Place
	if asked := p.release.Needs.PHP != nil || inside(p.server); asked {
		if bearer, err = e.courierPlace(); err != nil {
			return nil, nil, err
		}
		steps = append(steps, &sendCourier{env: e, Place: bearer})
	}
	switch d := p.Data; {
	case d == nil:
	case d.Engine == account.SQLite:
		steps = append(steps,
			&makeFolder{env: e, Folder: path.Dir(database.File(p.server.Server, d.Name)), Mode: 0o770},
			&makeDatabase{env: e, Server: d.Server, Name: d.Name})
	case d.From == dataNew:
		steps = append(steps,
			&makeDatabase{env: e, Server: d.Server, Name: d.Name},
			&makeUser{env: e, Server: d.Server, Name: d.User, Clients: d.Clients, Database: d.Name})
	default:
		steps = append(steps, &useDatabase{env: e, Server: d.Server, Engine: d.Engine, Name: d.Name, User: d.User, Tables: d.Tables, Secret: vaultName(address, dataPassword),
			Place: courier.Place{Root: p.place.Domain.Folder, URL: p.place.Domain.URL, Store: store}})
	}
	if p.Place.DataFolder != "" {
		steps = append(steps, &makeFolder{env: e, Folder: p.Place.DataFolder})
	}
	steps = append(steps, &unpack{env: e, Stage: stage.folder, Top: stage.top, Veil: stage.veil, address: stage.address})
	for i, s := range p.kit.Setup {
		if holds(s.When, p.answers) {
			steps = append(steps, &setUp{env: e, N: i, Label: label(s), step: s, run: run})
		}
	}
	if len(p.aside) > 0 {
		steps = append(steps, &setAside{env: e, From: p.asideFrom, To: path.Join(store, "aside", e.job), Entries: p.aside})
	}
	steps = append(steps, &putInPlace{env: e, Stage: stage.folder, Target: p.Place.Folder}, &checkSite{env: e})
	timers, err := e.timersStep()
	if err != nil {
		return nil, nil, err
	}
	if timers != nil {
		steps = append(steps, timers)
	}
	if bearer.Name != "" {
		steps = append(steps, &dismissCourier{env: e, Place: bearer})
	}
	return append(steps,
		&recordSite{env: e, Address: address},
		&tidy{env: e, Stage: cmp.Or(stage.veil, stage.folder), Marker: mark, Drop: []string{path.Join(store, "stage"), path.Join(store, "busy"), store}},
	), done, nil
}

// stage is where an app is set up before it is put in place.
type stage struct {
	folder  string
	base    string // the address of its pages
	top     string // the folder of stages, or ""
	veil    string // the folder around it, or "" …
	address string // … and the veil's
}

// stage chooses one: in the store, which the web cannot see; or, for a set-up
// by the app's own pages, below the document root under a name that nobody can
// guess, in a folder that shows nothing of it.
func (e *env) stage() (stage, error) {
	p := e.plan
	if !p.kit.ByForms() {
		top := path.Join(e.account.Store, "stage")
		return stage{folder: path.Join(top, e.job), base: p.Place.URL, top: top}, nil
	}
	name, err := e.Maker.Token(32)
	if err != nil {
		return stage{}, err
	}
	name = "stage-" + name
	veil, address := path.Join(p.place.Domain.Folder, "tivset-"+e.job), p.place.Domain.URL+"/tivset-"+e.job+"/"
	return stage{folder: path.Join(veil, name), base: address + name + "/", veil: veil, address: address}, nil
}

func (p *Plan) adminURL() string {
	admin, err := fill.Text(p.kit.Admin, fill.Values{"admin.folder": p.Place.AdminFolder})
	if err != nil {
		admin = "" // the kit's checker lets no other place through
	}
	return p.Place.URL + strings.TrimPrefix(admin, "/")
}

// endJob notes how a job ended.
func (s *Service) endJob(entry ledger.Job, outcome string, err error) error {
	now := s.Now().UTC()
	entry.Ended, entry.Outcome = &now, outcome
	var stopped *job.Stopped
	if errors.As(err, &stopped) {
		entry.Outcome, entry.Problem = "undone", stopped.Error()
		if !stopped.Undone {
			entry.Outcome, entry.Ended = "left", nil
		}
	}
	return s.Ledger.PutJob(context.Background(), entry)
}

// stoppedFault words why a job did not come to its end, and what became of it.
func stoppedFault(ctx context.Context, p *Plan, err error) error {
	var stopped *job.Stopped
	if !errors.As(err, &stopped) {
		return err
	}
	f := *fault.Of(stopped.Cause)
	if f.Kind != fault.Decision || !stopped.Undone {
		f.Kind = fault.Failed
	}
	if ctx.Err() != nil {
		f.What, f.Cause = "interrupted", nil
		f.Remedy = "Run the command again when you are ready."
	}
	f.Job = stopped.Job
	f.What = fmt.Sprintf("%s: %s", stopped.Step, f.What)
	if f.Where == "" {
		f.Where = p.Place.URL
	}
	if f.Remedy == "" {
		f.Remedy = remedy(stopped.Cause, p)
	}
	if stopped.Undone {
		f.Details = append(f.Details, "Everything that was begun was undone; the account is as it was.")
		return &f
	}
	f.Kind = fault.Left
	if stopped.Settled {
		f.Details = append(f.Details, "The site is installed and checked; only traces of the install are left in the account.")
		f.Remedy = "To finish, run: tivset resume " + stopped.Job
		return &f
	}
	f.Details = append(f.Details, "It could not all be undone: "+stopped.Left.Error())
	f.Remedy = "When that is mended, run: tivset undo " + stopped.Job + "; or, to install after all: tivset resume " + stopped.Job
	return &f
}

// remedy says what to do about an error that came without one.
func remedy(err error, p *Plan) string {
	switch {
	case errors.Is(err, fs.ErrPermission):
		return "Give the user who runs this the right to write there; see: tivset account test " + p.Account
	case errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT):
		return "Make room in the account, and try again."
	}
	return "Try again; if it stays so, see what of the account works: tivset account test " + p.Account
}
