// Package update is the way of a site to a newer release: made ready beside it,
// a backup first, put back when the check fails.
package update

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"tivset/internal/answer/care"
	"tivset/internal/app/archive"
	"tivset/internal/app/kit"
	"tivset/internal/app/release"
	"tivset/internal/app/version"
	"tivset/internal/fault"
	"tivset/internal/notify/mail"
	"tivset/internal/plan"
	"tivset/internal/question"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/step"
	"tivset/internal/work"
)

// Way is this way's line in the table.
func Way() work.Operation {
	return work.Operation{Name: "update", Past: "updated",
		Again: work.AgainWith(func(ctx context.Context, d *work.Service, r Request) error {
			_, err := To(ctx, d, r)
			return err
		})}
}

// Request is a site that is to get a newer release.
type Request struct {
	Site     string
	Release  string // "" for the newest
	Archive  string // a file here that is the release's archive
	Accept   string // the SHA-256 of such an archive that the kit does not know, and that the owner accepts
	NoBackup bool
}

// Plan is what an update will do.
type Plan struct {
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
	Closed   int         `json:"closed_seconds"` // for about how long the site is closed, beside the app's own migration
	Needs    []plan.Need `json:"needs"`
	Warnings []string    `json:"warnings"`

	next    *site.Site // the site as it will be
	archive string     // the new release's, on this machine
	survey  archive.Survey
	source  *work.Held
	request Request
}

// Between is a release on the way.
type Between struct {
	Release string `json:"release"`
	Date    string `json:"date"`
	Level   string `json:"level"`
	Urgent  bool   `json:"urgent,omitempty"` // it fixes a security hole
}

// Close lets go of the account.
func (p *Plan) Close() error { return p.source.Close() }

// Done is what an update came to.
type Done struct {
	work.Done
	From   string
	Backup *step.BackedUp // nil where none was made
}

// ErrCurrent means that there is nothing newer.
var ErrCurrent = errors.New("the site has the newest release")

// Look works out what an update will do. It changes nothing; the caller closes
// the plan. ErrCurrent when there is nothing to do.
func Look(ctx context.Context, d *work.Service, r Request) (*Plan, error) {
	h, err := d.Hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	p, err := look(ctx, d, h, r)
	if err != nil {
		return nil, work.Closing(h, err)
	}
	return p, nil
}

func look(ctx context.Context, d *work.Service, h *work.Held, r Request) (*Plan, error) {
	k := h.Of.Kit
	if k.Withheld != nil {
		return nil, k.Withheld
	}
	if err := d.Archives.LookUp(ctx, k.Kit); err != nil {
		return nil, err
	}
	to := question.ChooseRelease(k.Kit, r.Release)
	if err := possible(h, to, r); err != nil {
		return nil, err
	}
	if err := d.Ready(ctx, h); err != nil {
		return nil, err
	}
	p := &Plan{Site: h.Site, From: h.Release, To: to.Release, Releases: []Between{}, Steps: []string{}, Lost: []string{},
		Carried: []string{}, Warnings: []string{},
		Closed: int(work.ClosedFor(h.Site, true, false, false).Seconds()),
		Backup: !r.NoBackup, PutBack: true, source: h, request: r}
	for _, b := range k.Between(p.From, p.To) {
		p.Releases = append(p.Releases, Between{b.Release, b.Date, b.Level, b.Urgent})
		if slices.Index(kit.Levels, b.Level) > slices.Index(kit.Levels, p.Level) {
			p.Level = b.Level
		}
	}
	record := h.Site
	record.Release = p.To
	var err error
	if p.next, err = d.Book.From(record); err != nil {
		return nil, err
	}
	given := release.Given{File: r.Archive, Sum: r.Accept}
	if p.archive, p.survey, err = plan.Fetched(ctx, d.Archives, p.next, given); err != nil {
		return nil, err
	}
	for _, s := range p.migration() {
		p.Steps = append(p.Steps, migrationLabel(s))
	}
	if err := p.fit(ctx); err != nil {
		return nil, err
	}
	return p, p.handmade(ctx, d)
}

// possible says why an update cannot be; nil when it can.
func possible(h *work.Held, to *kit.Release, r Request) error {
	switch {
	case r.Release != "" && to.Release != r.Release && to.Upstream() != r.Release:
		return fault.New(fault.Usage, h.Of.Title+" has no release "+r.Release, h.Address, "There are "+
			strings.Join(h.Of.Kit.Versions(), ", ")+".")
	case to.Release == h.Release:
		return ErrCurrent
	case !version.Newer(to.Release, h.Release):
		return fault.New(fault.Usage, fmt.Sprintf("%s is older than %s, which the site has", to.Release, h.Release),
			h.Address,
			"An app does not go back by itself. To have an earlier state again: "+fault.Call("restore", h.Address))
	case h.Gone != "":
		return fault.New(fault.Usage, "the "+h.Gone+" of the site is gone", h.Address, "Bring it back first: "+
			fault.Call("restore", h.Address))
	}
	return nil
}

// migration lists the kit's steps between the two releases.
func (p *Plan) migration() []kit.Step {
	var out []kit.Step
	for _, s := range p.next.Kit.Update.Steps {
		passed := s.Since == "" || version.Newer(s.Since, p.From) && !version.Newer(s.Since, p.To)
		if passed && p.next.Holds(s.When) {
			out = append(out, s)
		}
	}
	return out
}

// migrationLabel words a step of an update.
func migrationLabel(s kit.Step) string {
	if s.Kind().Data {
		return "Migrate the database"
	}
	return s.Label()
}

// fit compares what the new release needs with what is there.
func (p *Plan) fit(ctx context.Context) error {
	s := p.next
	if s.Data != nil && !s.Server.InFiles() && !s.Server.FromInside() {
		session, err := s.OpenData(ctx, p.source.In)
		if err != nil {
			return err
		}
		_, version, err := session.Version(ctx)
		if err := errors.Join(err, session.Close()); err != nil {
			return err
		}
		fit, err := plan.FitServer(s.Kit.Kit, s.Of, s.Server, p.To, version, s.Account)
		if err != nil {
			return err
		}
		p.Needs = append(p.Needs, fit.Need)
	}
	needs, warnings, err := plan.LookAtNeeds(ctx, p.source.In, s, p.survey.Bytes)
	p.Needs, p.Warnings = append(append([]plan.Need{}, p.Needs...), needs...), append(p.Warnings, warnings...)
	return err
}

// handmade finds what the owner changed among the app's files: what a newer
// release would silently replace, and what goes along.
func (p *Plan) handmade(ctx context.Context, d *work.Service) error {
	old := p.source.Of
	of, err := old.Content(ctx, d.Archives)
	if err != nil {
		p.Warnings = append(p.Warnings, "it cannot be told which files were changed by hand, for the archive of "+p.From+
			" cannot be had: what was changed is in the backup only")
		return nil
	}
	next, err := p.next.Content(ctx, d.Archives)
	if err != nil {
		return err
	}
	others, err := d.Book.Foreign(ctx, old)
	if err != nil {
		return err
	}
	c, err := release.Compare(ctx, old.FolderOf(p.source.In.Files, p.Site.Entries, others), of, true,
		func(int64, int64, string) {})
	if err != nil {
		return err
	}
	kept := p.kept()
	for _, name := range c.Changed {
		if !archive.Skipped(name, kept) && !p.next.Edits(name) {
			p.Lost = append(p.Lost, name)
		}
	}
	for _, name := range c.Added {
		if _, taken := next.Sums[name]; taken {
			p.Lost = append(p.Lost, name)
		} else if !archive.Skipped(name, kept) {
			p.Carried = append(p.Carried, name)
		}
	}
	return nil
}

// kept lists what the new release does not replace: what the app writes.
func (p *Plan) kept() []string {
	k := p.next.Kit
	return append(k.Place.Writes(), k.Update.Keep...)
}

// Update carries a plan out.
func Update(ctx context.Context, d *work.Service, p *Plan) (*Done, error) {
	done, _, err := Try(ctx, d, p)
	return done, err
}

// Try carries a plan out, and says whether the new release itself was tried: what failed
// before that is not its fault.
func Try(ctx context.Context, d *work.Service, p *Plan) (done *Done, tried bool, err error) {
	t, err := d.Begin(p.source.In, p.next)
	if err != nil {
		return nil, false, err
	}
	u := &updating{Tools: t, plan: p, done: &Done{From: p.From}}
	err = d.CarryOut(ctx, t, work.Job{Way: Way(), Request: p.request, Undone: "The site is as it was, with release " +
		p.From + ".",
		Remedy: "Wait for a release that fixes this, or tell the kit's author; the site goes on with " + p.From + ".",
		List:   func(context.Context) (job.List, func(), error) { return u.list() }})
	if err != nil {
		return nil, u.tried, err
	}
	u.done.Done, err = d.Done(ctx, t)
	return u.done, u.tried, err
}

// To plans an update and carries it out.
func To(ctx context.Context, d *work.Service, r Request) (*Done, error) {
	p, err := Look(ctx, d, r)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	return Update(ctx, d, p)
}

// LookUp finds which releases the apps of sites have now, where they come by themselves:
// what is due is told by what is known. Of an app that could not be looked at, what was
// known holds; why is told.
func LookUp(ctx context.Context, d *work.Service) (unseen []error) {
	sites, err := d.Book.Ledger.Sites(ctx)
	if err != nil {
		return []error{err}
	}
	looked := map[string]bool{}
	for _, x := range sites {
		k, err := d.Book.Catalogue.Find(x.App)
		if err != nil || looked[x.App] {
			continue // a site without its kit has nothing due
		}
		looked[x.App] = true
		if err := d.Archives.LookUp(ctx, k.Kit); err != nil {
			unseen = append(unseen, err)
		} else if k.LookupErr != nil {
			unseen = append(unseen, k.LookupErr)
		}
	}
	return unseen
}

// Due takes a site to the release that its care allows, and mails what came of
// it where the care wants that.
func Due(ctx context.Context, d *work.Service, x ledger.Site) (*Done, error) {
	done, err := Once(ctx, d, x)
	if mailErr := tell(ctx, d, x, err); mailErr != nil && err == nil {
		done.Warnings = append(done.Warnings, "the mail about it could not be sent: "+mailErr.Error())
	}
	return done, err
}

// Once makes an update that is due. A release that was tried and put back is
// noted, and not tried every night; a server that is down is no release's fault.
func Once(ctx context.Context, d *work.Service, x ledger.Site) (*Done, error) {
	p, err := Look(ctx, d, Request{Site: x.Address, Release: x.Due})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	done, tried, err := Try(ctx, d, p)
	if err == nil || ctx.Err() != nil || !tried {
		return done, err
	}
	return nil, errors.Join(err, p.Failed(ctx, d, fault.Of(err).What))
}

// Failed notes at the site that the plan's release failed, so that it is not tried again
// by itself as long as it is the same.
func (p *Plan) Failed(ctx context.Context, d *work.Service, problem string) error {
	now, err := d.Book.Ledger.Site(ctx, p.Site.Address)
	if err != nil {
		return err
	}
	now.Tried = &ledger.Tried{Release: p.To, Archive: p.next.Of.Archive.SHA256, At: d.Now().UTC(), Problem: problem}
	return d.Book.Ledger.KeepSite(ctx, now)
}

// tell mails how an update ended to whom the care tells.
func tell(ctx context.Context, d *work.Service, x ledger.Site, failed error) error {
	a, err := d.Book.Home.Account(x.Account)
	of := care.Change
	if failed != nil {
		of = care.Trouble
	}
	to := x.Care.Told(of, x.Admin.Email)
	if err != nil || a.Mail == nil || to == "" {
		return nil
	}
	subject, text := "Updated: "+x.Title, fmt.Sprintf("%s at %s went from release %s to %s, and is checked.\n", x.Title,
		x.URL, x.Release, x.Due)
	if failed != nil {
		f := fault.Of(failed)
		subject = "Not updated: " + x.Title
		text = fmt.Sprintf(
			"%s at %s was to go from release %s to %s, and did not:\n%s.\n%s\n%s\nThis release is not tried again by itself.\n",
			x.Title,
			x.URL,
			x.Release,
			x.Due,
			f.What,
			strings.Join(f.Details, "\n"),
			f.Remedy,
		)
	}
	return d.Post(ctx, x.Account, mail.Message{To: to, Subject: subject, Text: text})
}
