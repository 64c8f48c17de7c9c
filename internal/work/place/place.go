// Package place is the way of a site's content to another place: a copy beside
// the original, or a move that ends with taking the original away. What is in
// the content stands in the place of an archive and a set-up.
package place

import (
	"context"
	"maps"

	"tivset/internal/answer"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/plan"
	"tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/work"
)

// Copy is the way to a second copy, Move the way to a new address.
func Copy() work.Operation { return work.Operation{Name: "copy", Past: "copied", Again: again} }
func Move() work.Operation { return work.Operation{Name: "move", Past: "moved", Again: again} }

func again(ctx context.Context, d *work.Service, h job.Header) (func(context.Context) (*work.Done, error), error) {
	return work.AgainWith(func(ctx context.Context, d *work.Service, r Request) error {
		p, err := Look(ctx, d, r)
		if err != nil {
			return err
		}
		defer p.Close()
		_, err = Carry(ctx, d, p)
		return err
	})(ctx, d, h)
}

// Request is a site that somebody wants at another place too, or instead.
type Request struct {
	Site     string
	At       string
	Account  string // of the new place; "" when only one can be meant
	Answers  answer.Given
	Move     bool
	Redirect bool // with Move: the old address leads to the new one
}

// open is the request without secrets.
func (r Request) open(k *kit.Kit) Request {
	r.Answers = maps.Clone(r.Answers)
	for _, id := range append(site.SecretIDs(k), site.AdminPassword, site.DataPassword) {
		delete(r.Answers, id)
	}
	return r
}

// Content is a backup that is to become a site, at its own place or another.
type Content struct {
	*backup.Backup
	site.Carried
	Hidden string // the id of the answer that shows the site to search engines, which a copy is kept from; or ""
}

// Plan is a copy or a move that was looked at and not begun.
type Plan struct {
	*plan.Plan
	From   ledger.Site
	Move   bool
	Closed int // with a move: for about how many seconds the old place is closed before the new one answers

	way     work.Operation
	copy    bool // what comes of it is a second copy, of which the original's readers are not to hear
	request Request
	source  *work.Held // nil where the content comes from a backup
	content *Content
}

// Close lets go of the account that is copied from.
func (p *Plan) Close() error { return p.source.Close() }

// instead is the record whose place the site takes, nil for none.
func (p *Plan) instead() *ledger.Site {
	if p.content.TakesPlace(p.Address(), p.Account) {
		return p.content.Instead
	}
	return nil
}

// Leads says whether the old address is to lead to the new one.
func (p *Plan) Leads() bool { return p.request.Redirect }

// Look works out what a copy or a move will do. The caller closes it.
func Look(ctx context.Context, d *work.Service, r Request) (*Plan, error) {
	h, err := d.Hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	if err := d.Ready(ctx, h); err != nil {
		return nil, work.Closing(h, err)
	}
	if _, err := site.Resolve(r.At, h.In.Domains); err == nil && r.Account == "" {
		r.Account = h.Account // its own account has the domain: no other is meant
	}
	c := &Content{Carried: site.Carried{Record: h.Site, Secrets: h.Of.Secrets}}
	if c.Before, err = h.Of.Values(d.Now()); err != nil {
		return nil, work.Closing(h, err)
	}
	if !r.Move {
		c.Anew = h.Of.Kit.Anew()
	}
	way := Copy()
	if r.Move {
		way = Move()
	}
	if !r.Move && site.HasExtra(h.Of.Kit.Kit, searchEngines) {
		c.Hidden = "extra." + searchEngines
	}
	p, err := At(ctx, d, c, r, way)
	if err != nil {
		return nil, work.Closing(h, err)
	}
	p.source, p.copy = h, !r.Move
	if r.Redirect && h.URL == p.Place.URL {
		return nil, work.Closing(h, fault.New(fault.Usage, "the address stays, and so it cannot lead to another", h.URL,
			"Leave --redirect out."))
	}
	if r.Move {
		p.Closed = int(work.ClosedFor(h.Site, true, true, true).Seconds())
	}
	return p, nil
}

// searchEngines is the extra that shows a site to search engines.
const searchEngines = "search-engines"

// At plans content at another place, by a way.
func At(ctx context.Context, d *work.Service, c *Content, r Request, way work.Operation) (*Plan, error) {
	k, err := d.Book.Catalogue.Find(c.Record.App)
	if err != nil {
		return nil, err
	}
	given := c.Answers()
	if k.Place.AdminFolder != "" {
		given[answer.AdminFolder] = site.AdminFolder(c.Record)
	}
	if db := c.Record.Database; db != nil && r.Answers[answer.DataFrom] == "" && k.UsesTables() {
		given[answer.DataTables] = db.Tables
	}
	if k.AccountElsewhere() { // whose password nobody makes here
		given[answer.AdminPassword] = c.Secrets[site.AdminPassword].Reveal()
	}
	if c.Hidden != "" {
		given[c.Hidden] = "no"
	}
	maps.Copy(given, r.Answers)
	p, err := d.Planner.Plan(ctx, plan.Request{App: c.Record.App, At: r.At, Release: c.Record.Release, Account: r.Account,
		Answers: given, Carried: &c.Carried})
	if err != nil {
		return nil, err
	}
	if (c.Record.Database == nil) != (p.Data == nil) {
		return nil, fault.New(fault.Usage, "the backup and the kit of "+k.Title+" differ on whether the site has a database",
			r.Site, "Take another backup.")
	}
	if db := c.Record.Database; db != nil && p.Data.Engine != db.Engine {
		has, _ := database.EngineOf(p.Data.Engine)
		of, _ := database.EngineOf(db.Engine)
		return nil, fault.New(fault.Usage, "the data is of "+of.Title+", and the account has only "+has.Title+" for it",
			p.Account,
			"Name a server of that engine with -a data.server=NAME, or another account.")
	}
	return &Plan{Plan: p, From: c.Record, Move: r.Move, way: way, request: r, content: c}, nil
}

// Carry carries a plan out: a job that makes a site of content.
func Carry(ctx context.Context, d *work.Service, p *Plan) (*work.Done, error) {
	in, err := d.Hosting.Open(ctx, p.In)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	if p.source != nil {
		p.source.In.Under(d.Hosting)
	}
	t, err := d.Begin(in, &p.Site)
	if err != nil {
		return nil, err
	}
	err = d.CarryOut(ctx, t, work.Job{Way: p.way, Request: p.request.open(p.Kit.Kit),
		List: func(ctx context.Context) (job.List, func(), error) {
			return (&placing{Tools: t, desk: d, plan: p, content: p.content.Backup}).list(ctx)
		}})
	if err != nil {
		return nil, err
	}
	done, err := d.Done(ctx, t, p.Warnings...)
	done.Todo = p.Todo
	return &done, err
}
