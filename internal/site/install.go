package site

import (
	"cmp"
	"context"
	"path"
	"strings"

	"tivset/internal/app/fill"
	"tivset/internal/hosting/courier"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
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
	e, letGo, err := s.planned(ctx, p)
	if err != nil {
		return nil, err
	}
	defer letGo()
	reviewed := len(p.Warnings)
	err = e.carryOut(ctx, work{what: "install", app: p.App, address: p.place.Address(), url: p.Place.URL, request: again{p.Saved(), p.Admin.Generated, p.givenSecrets()}, steps: e.installSteps})
	if err != nil {
		return nil, err
	}
	recorded, err := s.Ledger.Site(ctx, p.place.Address())
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

// installSteps lists the steps of the install.
func (e *env) installSteps(ctx context.Context) (steps, error) {
	p := e.plan
	address, store := p.place.Address(), e.account.Store
	mark := markerName(store, address)
	stage, err := e.stage(p.kit.ByForms())
	if err != nil {
		return steps{}, err
	}
	run, err := e.runner(ctx, stage.folder, stage.base)
	if err != nil {
		return steps{}, err
	}
	done := func() {
		if run.Data != nil {
			_ = run.Data.Close()
		}
	}
	list := []job.Step{
		&claim{env: e, Marker: mark, Address: address, Store: store},
		&keepSecrets{env: e, Prefix: vaultName(address, "")},
		&proveDomain{env: e, Folder: p.place.Domain.Folder, URL: p.place.Domain.URL, Name: "tivset-" + e.job + ".txt"}}
	asks, bearer, err := e.askPHP()
	if err != nil {
		return steps{}, err
	}
	list = append(append(list, asks...), e.dataSteps()...)
	if p.Place.DataFolder != "" {
		list = append(list, &makeFolder{env: e, Folder: p.Place.DataFolder})
	}
	list = append(list, &unpack{env: e, Stage: stage.folder, Top: stage.top, Veil: stage.veil, address: stage.address})
	for i, s := range p.kit.Setup {
		if holds(s.When, p.answers) {
			list = append(list, &setUp{env: e, N: i, Label: label(s), step: s, run: run})
		}
	}
	if len(p.aside) > 0 {
		list = append(list, &setAside{env: e, From: p.asideFrom, To: path.Join(store, "aside", e.job), Entries: p.aside})
	}
	list = append(list, &putInPlace{env: e, Stage: stage.folder, Target: p.Place.Folder}, &checkSite{env: e})
	last, err := e.aroundSteps(bearer)
	if err != nil {
		return steps{}, err
	}
	list = append(list, last...)
	return steps{append(list,
		&recordSite{env: e, Address: address},
		&tidy{env: e, Stage: cmp.Or(stage.veil, stage.folder), Marker: mark, Drop: []string{path.Join(store, "stage"), path.Join(store, "busy"), store}},
	), done}, nil
}

// aroundSteps are what follows the check of a new site: its timers, and the end
// of a courier.
func (e *env) aroundSteps(bearer courier.Place) ([]job.Step, error) {
	timers, err := e.timersStep()
	if err != nil {
		return nil, err
	}
	var list []job.Step
	if timers != nil {
		list = append(list, timers)
	}
	if bearer.Name != "" {
		list = append(list, &dismissCourier{env: e, Place: bearer})
	}
	return list, nil
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
func (e *env) stage(forms bool) (stage, error) {
	p := e.plan
	if !forms {
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
