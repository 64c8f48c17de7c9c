package site

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/mail"
	"tivset/internal/records/ledger"
)

// UpdateRequest is a site that is to get a newer release.
type UpdateRequest struct {
	Site     string
	Release  string // "" for the newest
	Archive  string // a file here that is the release's archive
	NoBackup bool
}

// UpdatePlan is what an update will do.
type UpdatePlan struct {
	Site     ledger.Site `json:"site"`
	From     string      `json:"from"`
	To       string      `json:"to"`
	Level    string      `json:"level"`    // the farthest of the releases between
	Releases []Between   `json:"releases"` // those between, newest first
	Steps    []string    `json:"steps"`    // what the app's own migration does
	Lost     []string    `json:"lost"`     // the app's own files that were changed by hand: the release's take their place
	Carried  []string    `json:"carried"`  // files that were added by hand and go along
	Backup   bool        `json:"backup"`
	PutBack  bool        `json:"put_back"`
	Needs    []Need      `json:"needs"`
	Warnings []string    `json:"warnings"`

	plan    *Plan
	old     *Plan
	source  *held
	request UpdateRequest
}

// Between is a release on the way.
type Between struct {
	Release string `json:"release"`
	Date    string `json:"date"`
	Level   string `json:"level"`
}

// Close lets go of the account.
func (p *UpdatePlan) Close() error { return p.source.files.Close() }

// Updated is what an update came to.
type Updated struct {
	Installed
	From   string
	Backup *BackedUp // nil where none was made
}

// ErrCurrent means that there is nothing newer.
var ErrCurrent = errors.New("the site has the newest release")

// due is the newest release that a site's care takes by itself, "" for none.
func due(k *kit.Kit, x ledger.Site) string {
	between := k.Between(x.Release, k.Newest().Release)
	if x.Care.Updates == "all" && len(between) > 0 {
		return between[0].Release
	}
	to := ""
	for i := len(between) - 1; i >= 0 && x.Care.Updates == "fixes" && between[i].Level == "fixes"; i-- {
		to = between[i].Release
	}
	return to
}

// PlanUpdate works out what an update will do. It changes nothing; the caller
// closes the plan. ErrCurrent when there is nothing to do.
func (s *Service) PlanUpdate(ctx context.Context, r UpdateRequest) (*UpdatePlan, error) {
	h, err := s.hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	p, err := s.planUpdate(ctx, h, r)
	if err != nil {
		return nil, errors.Join(err, h.files.Close())
	}
	return p, nil
}

func (s *Service) planUpdate(ctx context.Context, h *held, r UpdateRequest) (*UpdatePlan, error) {
	k := h.plan.kit
	to := chooseRelease(k.Kit, r.Release)
	switch {
	case r.Release != "" && to.Release != r.Release:
		return nil, fault.New(fault.Usage, k.Title+" has no release "+r.Release, h.Address, "There are "+strings.Join(k.Versions(), ", ")+".")
	case to.Release == h.Release:
		return nil, ErrCurrent
	case !kit.Newer(to.Release, h.Release):
		return nil, fault.New(fault.Usage, fmt.Sprintf("%s is older than %s, which the site has", to.Release, h.Release), h.Address, "An app does not go back by itself. To have an earlier state again: tivset restore "+h.Address)
	case h.Gone != "":
		return nil, fault.New(fault.Usage, "the "+h.Gone+" of the site is gone", h.Address, "Bring it back first: tivset restore "+h.Address)
	}
	p := &UpdatePlan{Site: h.Site, From: h.Release, To: to.Release, Releases: []Between{}, Steps: []string{}, Lost: []string{}, Carried: []string{}, Warnings: []string{},
		Backup: h.Care.Backup != "off" && !r.NoBackup, PutBack: h.Care.PutBack != "off", source: h, old: h.plan, request: r}
	for _, b := range k.Between(p.From, p.To) {
		p.Releases = append(p.Releases, Between{b.Release, b.Date, b.Level})
		if slices.Index(kit.Levels, b.Level) > slices.Index(kit.Levels, p.Level) {
			p.Level = b.Level
		}
	}
	next := h.Site
	next.Release = p.To
	var err error
	if p.plan, err = s.planOf(next); err != nil {
		return nil, err
	}
	p.plan.Warnings, p.plan.Needs, p.plan.Todo = []string{}, []Need{}, []string{}
	if p.plan.archive, err = s.fetch(ctx, k, to, r.Archive); err != nil {
		return nil, err
	}
	if p.plan.survey, err = survey(ctx, p.plan.archive, to.Archive.Top, p.plan.leaves()); err != nil {
		return nil, fault.New(fault.Failed, "the archive of "+k.Title+" "+p.To+" cannot be used", "", "Tell whoever made the kit. Nothing was touched.").Because(err)
	}
	p.plan.countFiles()
	for _, step := range p.migration() {
		p.Steps = append(p.Steps, migrationLabel(step))
	}
	if err := s.fitUpdate(ctx, p); err != nil {
		return nil, err
	}
	return p, s.handmade(ctx, p)
}

// migration lists the kit's steps between the two releases.
func (p *UpdatePlan) migration() []kit.Step {
	var out []kit.Step
	for _, step := range p.plan.kit.Update.Steps {
		passed := step.Since == "" || kit.Newer(step.Since, p.From) && !kit.Newer(step.Since, p.To)
		if passed && holds(step.When, p.plan.answers) {
			out = append(out, step)
		}
	}
	return out
}

// fitUpdate compares what the new release needs with what is there.
func (s *Service) fitUpdate(ctx context.Context, p *UpdatePlan) error {
	if p.plan.Data != nil && p.plan.Data.Engine != "sqlite" && !inside(p.plan.server) {
		session, err := s.OpenSession(ctx, p.plan.account, p.plan.server, p.plan.loginOf(p.plan.server))
		if err != nil {
			return err
		}
		_, version, err := session.Version(ctx)
		if err := errors.Join(err, session.Close()); err != nil {
			return err
		}
		if err := fitRelease(p.plan, Request{Release: p.To}, version); err != nil {
			return err
		}
	}
	err := s.lookAtNeeds(ctx, p.plan, p.source.files)
	p.Needs = p.plan.Needs
	p.Warnings = append(p.Warnings, p.plan.Warnings...)
	p.plan.Warnings = []string{}
	return err
}

// handmade finds what the owner changed among the app's files: what a newer
// release would silently replace, and what goes along.
func (s *Service) handmade(ctx context.Context, p *UpdatePlan) error {
	of, err := s.releaseOf(ctx, p.old)
	if err != nil {
		p.Warnings = append(p.Warnings, "it cannot be told which files were changed by hand, for the archive of "+p.From+" cannot be had: what was changed is in the backup only")
		return nil
	}
	next, err := s.releaseOf(ctx, p.plan)
	if err != nil {
		return err
	}
	e, err := s.begin(p.source)
	if err != nil {
		return err
	}
	c, err := e.compare(ctx, p.old, p.Site.Entries, of, true)
	if err != nil {
		return err
	}
	kept := p.kept()
	for _, name := range c.Changed {
		if !archive.Skipped(name, kept) && !p.edited(name) {
			p.Lost = append(p.Lost, name)
		}
	}
	for _, name := range c.Added {
		if _, taken := next.sums[name]; taken {
			p.Lost = append(p.Lost, name)
		} else if !archive.Skipped(name, kept) {
			p.Carried = append(p.Carried, name)
		}
	}
	return nil
}

// edited says of a file whether the kit edits it where it is unpacked.
func (p *UpdatePlan) edited(name string) bool {
	return slices.ContainsFunc(p.plan.kit.Config, func(c kit.Config) bool { return c.Path == name })
}

// kept lists what the new release does not replace: what the app writes, and
// the themes and extensions that are not to be updated with it.
func (p *UpdatePlan) kept() []string {
	k := p.plan.kit
	out := append(slices.Clone(k.Place.Writable), k.Update.Keep...)
	for _, x := range k.Extras {
		policy := map[string]string{"theme": p.Site.Care.Themes, "themes": p.Site.Care.Themes, "extensions": p.Site.Care.Extensions}[x.ID]
		if policy == "off" {
			for _, parts := range x.Parts {
				out = append(out, parts...)
			}
		}
	}
	return out
}

// Update carries a plan out.
func (s *Service) Update(ctx context.Context, p *UpdatePlan) (*Updated, error) {
	h := p.source
	h.plan = p.plan
	e, err := s.begin(h)
	if err != nil {
		return nil, err
	}
	done := &Updated{From: p.From}
	err = e.carryOut(ctx, work{what: "update", app: h.App, address: h.Address, url: h.URL, request: p.request, undone: "The site is as it was, with release " + p.From + ".",
		remedy: "Wait for a release that mends this, or tell whoever made the kit; the site goes on with " + p.From + ".", steps: func(ctx context.Context) (steps, error) {
			return e.updateSteps(p, done)
		}})
	if err != nil {
		return nil, err
	}
	done.Installed, err = s.installed(ctx, e, h.Address)
	return done, err
}

// UpdateDue takes a site to the release that its care allows, and mails what
// came of it where the care wants that.
func (s *Service) UpdateDue(ctx context.Context, x ledger.Site) (*Updated, error) {
	done, err := s.updateTo(ctx, UpdateRequest{Site: x.Address, Release: x.Due})
	if mailErr := s.mailUpdate(ctx, x, err); mailErr != nil && err == nil {
		done.Warnings = append(done.Warnings, "the mail about it could not be sent: "+mailErr.Error())
	}
	return done, err
}

func (s *Service) updateTo(ctx context.Context, r UpdateRequest) (*Updated, error) {
	p, err := s.PlanUpdate(ctx, r)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	return s.Update(ctx, p)
}

// mailUpdate tells the admin how an update ended.
func (s *Service) mailUpdate(ctx context.Context, x ledger.Site, failed error) error {
	a, err := s.Home.Account(x.Account)
	if err != nil || a.Mail == nil || x.Admin.Email == "" || x.Care.Mails != "all" && (failed == nil || x.Care.Mails != "failures") {
		return nil
	}
	subject, text := "Updated: "+x.Title, fmt.Sprintf("%s at %s went from release %s to %s, and is checked.\n", x.Title, x.URL, x.Release, x.Due)
	if failed != nil {
		f := fault.Of(failed)
		subject = "Not updated: " + x.Title
		text = fmt.Sprintf("%s at %s was to go from release %s to %s, and did not:\n%s.\n%s\n%s\n", x.Title, x.URL, x.Release, x.Due, f.What, strings.Join(f.Details, "\n"), f.Remedy)
	}
	return s.SendMail(ctx, a.Mail.Server, mail.Message{From: a.Mail.From, To: x.Admin.Email, Subject: subject, Text: text})
}

// stageOf is where the new release is made ready.
func (e *env) stageOf(p *UpdatePlan) (stage, error) { return e.stage(kit.ByForms(p.migration())) }

// asideTop is where a job keeps what it replaced.
func (e *env) asideTop() string { return path.Join(e.account.Store, "aside", e.job) }
