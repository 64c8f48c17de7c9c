package requests

import (
	"context"
	"errors"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/work"
	"tivset/internal/work/batch"
	"tivset/internal/work/rehearse"
	"tivset/internal/work/update"
)

// Update asks for a newer release of a site.
type Update struct {
	update.Request
	Rehearse bool `json:",omitempty"` // on a copy first; the site is updated only if all is well
}

// Kind implements batch.Request.
func (*Update) Kind() string { return "update" }

func (r *Update) files() []File { return []File{{Name: &r.Archive}} }

// Where implements batch.Request.
func (r *Update) Where(ctx context.Context, d *work.Service) (batch.Where, error) {
	return recorded(ctx, d, r.Site)
}

// Plan implements batch.Request.
func (r *Update) Plan(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	out, err := of(ctx, d, r.Site)
	if err != nil {
		return nil, err
	}
	p, err := update.Look(ctx, d, r.Request)
	if errors.Is(err, update.ErrCurrent) {
		x, err := d.Book.Find(ctx, r.Site)
		out.Done = &Current{x}
		return out, err
	}
	if err != nil {
		return nil, err
	}
	agreed := *r
	agreed.Release = p.To // whatever is published meanwhile
	out.Shown, out.Release = p, p.Close
	out.Do = func(ctx context.Context, d *work.Service) (batch.Ended, error) { return agreed.do(ctx, d, p) }
	return out, nil
}

func (r *Update) do(ctx context.Context, d *work.Service, p *update.Plan) (batch.Ended, error) {
	out := &Updated{}
	if r.Rehearse {
		var err error
		if out.Rehearsal, err = rehearse.Rehearse(ctx, d, r.Request); err != nil {
			return nil, err
		}
		if !out.Rehearsal.OK {
			return nil, &NotRehearsed{out.Rehearsal, r.Site}
		}
	}
	var err error
	out.Done, err = update.Update(ctx, d, p)
	return out, err
}

// NotRehearsed is the error of an update whose rehearsal did not go well. It is a fault.Error too.
type NotRehearsed struct {
	*rehearse.Rehearsed
	site string
}

// Error implements error.
func (e *NotRehearsed) Error() string { return e.fault().Error() }

// Unwrap gives the fault.
func (e *NotRehearsed) Unwrap() error { return e.fault() }

func (e *NotRehearsed) fault() *fault.Error {
	return &fault.Error{Kind: fault.Failed, What: "the rehearsal of " + e.To + " did not go well", Where: e.site,
		Details: e.Problems, Remedy: "The site was not touched and stays with " + e.From + ". Wait for a release " +
			"that fixes this, or tell the kit's author."}
}

// Updated is what came of an update.
type Updated struct {
	*update.Done
	Rehearsal *rehearse.Rehearsed // nil where there was none
}

// Outcome implements batch.Ended.
func (*Updated) Outcome() string { return "updated" }

// OK implements batch.Ended.
func (*Updated) OK() bool { return true }

// Current is what came of an update where there is nothing newer.
type Current struct{ Site ledger.Site }

// Outcome implements batch.Ended.
func (*Current) Outcome() string { return "current" }

// OK implements batch.Ended.
func (*Current) OK() bool { return true }
