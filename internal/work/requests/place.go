package requests

import (
	"context"
	"slices"

	"tivset/internal/fault"
	"tivset/internal/work"
	"tivset/internal/work/batch"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
)

// Place asks for a copy of a site at another address, or to move it there.
type Place struct{ place.Request }

// Kind implements batch.Request.
func (r *Place) Kind() string {
	if r.Move {
		return "move"
	}
	return "copy"
}

// Where implements batch.Request.
func (r *Place) Where(ctx context.Context, d *work.Service) (batch.Where, error) {
	if _, err := d.Book.Find(ctx, r.Site); err != nil {
		return batch.Where{}, err
	}
	return placed(d, r.Account, r.At)
}

// Plan implements batch.Request.
func (r *Place) Plan(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	if r.At == "" {
		return nil, fault.Join("", "", []fault.Problem{{ID: "at", What: fault.Needed, Remedy: "Fill it in."}})
	}
	p, err := place.Look(ctx, d, r.Request)
	if err != nil {
		return nil, err
	}
	out := &batch.Plan{Where: batch.Where{Address: p.Address(), Account: p.In, Folder: p.Place.Folder}, At: p.Place.URL,
		Bytes: p.Changes.Bytes, Shown: p, Release: p.Close}
	if p.Data != nil {
		out.Server = p.Data.Server
	}
	out.Do = func(ctx context.Context, d *work.Service) (batch.Ended, error) {
		done, err := place.Carry(ctx, d, p)
		return &Placed{done, p.From.Address, p.From.Title, r.Move}, err
	}
	return out, nil
}

// Copies are the copies of a table: its columns are answers, but for at and the site's name.
func Copies(rows []*batch.Row, all place.Request) {
	for _, row := range rows {
		r := all
		at := row.Value("at", all.At)
		own := append(slices.Clone(batch.SiteColumns), "at")
		r.Site, r.At = row.Site, row.Fill(at)
		r.Answers = batch.Answers(row.Row, all.Answers, batch.Used(row.Row, all.Answers, at), own...)
		row.Request = &Place{r}
	}
}

// Placed is what came of a copy or a move.
type Placed struct {
	*work.Done
	From, Title string // of what it was made from
	Moved       bool
}

// Outcome implements batch.Ended.
func (p *Placed) Outcome() string {
	if p.Moved {
		return "moved"
	}
	return "copied"
}

// OK implements batch.Ended.
func (*Placed) OK() bool { return true }

// Remove asks for a site to be removed.
type Remove struct{ remove.Request }

// Kind implements batch.Request.
func (*Remove) Kind() string { return "remove" }

// Where implements batch.Request.
func (r *Remove) Where(ctx context.Context, d *work.Service) (batch.Where, error) {
	return recorded(ctx, d, r.Site)
}

// Plan implements batch.Request.
func (r *Remove) Plan(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	out, err := of(ctx, d, r.Site)
	if err != nil {
		return nil, err
	}
	p, err := remove.Look(ctx, d, r.Request)
	if err != nil {
		return nil, err
	}
	out.Shown, out.Release = p, p.Close
	out.Do = func(ctx context.Context, d *work.Service) (batch.Ended, error) {
		done, err := remove.Remove(ctx, d, p)
		return &Removed{done}, err
	}
	return out, nil
}

// Removed is what came of a removal.
type Removed struct{ *remove.Done }

// Outcome implements batch.Ended.
func (*Removed) Outcome() string { return "removed" }

// OK implements batch.Ended.
func (*Removed) OK() bool { return true }
