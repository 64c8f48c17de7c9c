package requests

import (
	"context"
	"errors"

	"tivset/internal/answer"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/work"
	"tivset/internal/work/adopt"
	"tivset/internal/work/batch"
	"tivset/internal/work/repair"
	"tivset/internal/work/rounds"
)

// Adopt asks for an app to be taken charge of that others installed.
type Adopt struct{ adopt.Request }

// Kind implements batch.Request.
func (*Adopt) Kind() string { return "adopt" }

// Where implements batch.Request.
func (r *Adopt) Where(_ context.Context, d *work.Service) (batch.Where, error) {
	return placed(d, r.Account, r.At)
}

// Plan implements batch.Request. Nothing of the app is changed, and so it needs no yes.
func (r *Adopt) Plan(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	x, err := adopt.Look(ctx, d, r.Request)
	if err != nil {
		return nil, err
	}
	out := &batch.Plan{Where: batch.Where{Address: x.Address}}
	out.Account, err = d.Book.Home.Account(x.Account)
	out.Do = func(ctx context.Context, d *work.Service) (batch.Ended, error) {
		done, err := adopt.Adopt(ctx, d, r.Request)
		if err != nil {
			return nil, err
		}
		x, err := d.Book.Find(ctx, done.Address)
		return &Adopted{x, done}, err
	}
	return out, err
}

// Adoptions are those of a table: its columns are answers.
func Adoptions(rows []*batch.Row, account string, all answer.Given) {
	for _, row := range rows {
		r := adopt.Request{At: row.Site, Account: account, Answers: answer.Given{}}
		for _, id := range adopt.Answers {
			if value := row.Value(id, all[id]); value != "" {
				r.Answers[id] = value
			}
		}
		row.Request = &Adopt{r}
	}
}

// Adopted is what came of it.
type Adopted struct {
	Site     ledger.Site
	Examined check.Examined
}

// Outcome implements batch.Ended.
func (*Adopted) Outcome() string { return "adopted" }

// OK implements batch.Ended.
func (*Adopted) OK() bool { return true }

// Check asks whether a site works.
type Check struct{ Site string }

// Kind implements batch.Request.
func (*Check) Kind() string { return "check" }

// Where implements batch.Request.
func (r *Check) Where(ctx context.Context, d *work.Service) (batch.Where, error) {
	return recorded(ctx, d, r.Site)
}

// Plan implements batch.Request.
func (r *Check) Plan(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	x, err := d.Book.Find(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	out, err := of(ctx, d, r.Site)
	if err != nil {
		return nil, err
	}
	out.Do = func(ctx context.Context, d *work.Service) (batch.Ended, error) {
		all, err := d.Examiner.CheckAll(ctx, []ledger.Site{x}, nil)
		return Checked(all), err
	}
	return out, nil
}

// Checked is what came of checks.
type Checked []check.Examined

// Outcome implements batch.Ended.
func (Checked) Outcome() string { return "checked" }

// OK implements batch.Ended.
func (c Checked) OK() bool {
	for _, e := range c {
		if !e.OK {
			return false
		}
	}
	return true
}

// Repair asks for the release's own files to be put back.
type Repair struct{ Site string }

// Kind implements batch.Request.
func (*Repair) Kind() string { return "repair" }

// Where implements batch.Request.
func (r *Repair) Where(ctx context.Context, d *work.Service) (batch.Where, error) {
	return recorded(ctx, d, r.Site)
}

// Plan implements batch.Request.
func (r *Repair) Plan(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	out, err := of(ctx, d, r.Site)
	if err != nil {
		return nil, err
	}
	out.Do = func(ctx context.Context, d *work.Service) (batch.Ended, error) {
		done, err := repair.Repair(ctx, d, r.Site)
		if err != nil && !errors.Is(err, repair.ErrNothing) {
			return nil, err
		}
		x, still, errStill := wrong(ctx, d, r.Site)
		if err != nil {
			return &AsItWas{x, still}, errStill
		}
		return &Repaired{done, still}, errStill
	}
	return out, nil
}

// wrong looks at a site, and gives its checks that fail.
func wrong(ctx context.Context, d *work.Service, site string) (x ledger.Site, failed []check.Checked, err error) {
	if x, err = d.Book.Find(ctx, site); err != nil {
		return x, nil, err
	}
	all, err := d.Examiner.CheckAll(ctx, []ledger.Site{x}, nil)
	for _, e := range all {
		for _, c := range e.Checks {
			if !c.OK {
				failed = append(failed, c)
			}
		}
	}
	return x, failed, err
}

// Repaired is what came of a repair.
type Repaired struct {
	*repair.Done
	Still []check.Checked // what is wrong with the site all the same
}

// Outcome implements batch.Ended.
func (*Repaired) Outcome() string { return "repaired" }

// OK implements batch.Ended.
func (r *Repaired) OK() bool { return len(r.Still) == 0 }

// AsItWas is what came of a repair where nothing was wrong.
type AsItWas struct {
	Site  ledger.Site
	Still []check.Checked // what is wrong with the site, and no repair mends
}

// Outcome implements batch.Ended.
func (*AsItWas) Outcome() string { return "as it was" }

// OK implements batch.Ended.
func (r *AsItWas) OK() bool { return len(r.Still) == 0 }

// Rounds asks for what is due at the sites of an account.
type Rounds struct{ rounds.Request }

// Kind implements batch.Request.
func (*Rounds) Kind() string { return "maintain" }

// Where implements batch.Request: rounds are called by the account.
func (r *Rounds) Where(_ context.Context, d *work.Service) (batch.Where, error) {
	a, err := d.Book.Home.Account(r.Account)
	return batch.Where{Address: r.Account, Account: a}, err
}

// Plan implements batch.Request.
func (r *Rounds) Plan(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	where, err := r.Where(ctx, d)
	if err != nil {
		return nil, err
	}
	return &batch.Plan{Where: where, Do: func(ctx context.Context, d *work.Service) (batch.Ended, error) {
		came, err := rounds.Go(ctx, d, r.Request, nil)
		if err == nil && came.Another {
			err = &fault.Error{Kind: fault.NeedsConfirmation, What: "another maintenance run is at work there", Where: r.Account,
				Busy: true}
		}
		return &Rounded{came}, err
	}}, nil
}

// Rounded is what came of a round.
type Rounded struct{ *rounds.Round }

// Outcome implements batch.Ended.
func (*Rounded) Outcome() string { return "done" }

// OK implements batch.Ended: a round that met broken sites, and told of them, did all that it was for.
func (r *Rounded) OK() bool { return len(r.Unsent) == 0 }
