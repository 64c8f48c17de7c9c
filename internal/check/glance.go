package check

import (
	"context"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/backoff"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// Glance looks whether a site is there, after something failed at it: its files, and its database with the site's own
// credentials. Its record says so from then on, until somebody looks at all of it. What cannot be reached says nothing.
func (e *Examiner) Glance(ctx context.Context, address string) error {
	x, err := e.Book.Ledger.Site(ctx, address)
	if err != nil {
		return err
	}
	s, in, err := e.open(ctx, x)
	if err != nil {
		return err
	}
	defer in.Close()
	before := x.Health
	gone, err := IsGone(ctx, in, &x)
	switch {
	case err != nil:
		return err
	case gone:
		x.Health = "gone"
	case x.Gone == "" && e.dataRefused(ctx, in, s, x):
		x.Health = "bad"
	case x.Gone == "" && x.Health == "gone":
		x.Health = "unknown"
	}
	if x.Health == before {
		return nil
	}
	return e.Record(ctx, x)
}

// dataRefused says whether the site cannot work with its data: the database is gone, or its user is.
func (e *Examiner) dataRefused(ctx context.Context, in *hosting.Account, s *site.Site, x ledger.Site) bool {
	if x.Database == nil {
		return false
	}
	v := &Visit{Site: s, In: in, Maker: e.Maker, Now: e.Now, Once: true}
	err := v.Open()
	if err == nil {
		err = v.databaseAnswers(ctx)
		_ = v.Close()
	}
	f := fault.Of(err)
	return err != nil && ctx.Err() == nil && !f.Busy && !backoff.Is(err) && fault.CodeOf(err) != fault.NoAnswer
}
