package step

import (
	"context"

	"tivset/internal/check"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// RecordSite writes a new site into the ledger, which settles the job.
type RecordSite struct {
	*Tools  `json:"-"`
	Address string `json:"address"`

	Before   *ledger.Site       `json:"before,omitempty"` // the record that it takes the place of, or nil
	SetAside []string           `json:"-"`                // what was set aside for the site, from the account's top
	As       func(*ledger.Site) `json:"-"`                // what else is to be noted, or nil
}

// Kind and Title implement job.Step.
func (*RecordSite) Kind() string  { return "record" }
func (*RecordSite) Title() string { return "Record the site" }

// Do describes the site as it is now.
func (r *RecordSite) Do(ctx context.Context) error {
	others, err := r.Book.Others(ctx, r.In.Account, r.Site.Place.Folder)
	if err != nil {
		return err
	}
	x := r.Site.Record(r.Now())
	x.Health = check.Health(r.Result.Checks)
	x.Job, x.Entries, x.FoldersMade, x.SetAside = r.Job, r.Result.Entries, r.Result.Made, r.SetAside
	if x.SetAside == nil {
		x.SetAside = []string{}
	}
	if x.Files, x.Bytes, err = files.Count(ctx, r.In.Files, x.Folder, others.Has); err != nil {
		return err
	}
	if r.As != nil {
		r.As(&x)
	}
	site.Note(&x, r.Result.Now)
	r.Result.Recorded = &x
	return r.Book.Ledger.PutSite(ctx, x)
}

// Undo drops the record, or puts back the one that was there.
func (r *RecordSite) Undo(ctx context.Context) error {
	if r.Before != nil {
		return r.Book.Ledger.PutSite(ctx, *r.Before)
	}
	return r.Book.Ledger.DropSite(ctx, r.Address)
}

// SaveSite records what has become of a site, which settles the job.
type SaveSite struct {
	*Tools `json:"-"`
	Before ledger.Site `json:"before"`

	After func(context.Context) (ledger.Site, error) `json:"-"`
}

// Saved records a change of a site that needs no look at it. After begins as the
// record was.
func Saved(t *Tools, before ledger.Site, after func(x *ledger.Site)) *SaveSite {
	return &SaveSite{Tools: t, Before: before, After: func(context.Context) (ledger.Site, error) {
		x := before
		after(&x)
		return x, nil
	}}
}

// Kind and Title implement job.Step.
func (*SaveSite) Kind() string  { return "save-site" }
func (*SaveSite) Title() string { return "Record the site" }

// Do records the site.
func (s *SaveSite) Do(ctx context.Context) error {
	now, err := s.After(ctx)
	if err != nil {
		return err
	}
	if len(s.Result.Checks) > 0 {
		at := s.Now().UTC()
		now.CheckedAt = &at
		now.Health = check.Health(s.Result.Checks)
	}
	site.Note(&now, s.Result.Now)
	s.Result.Recorded = &now
	return s.Book.Ledger.KeepSite(ctx, now)
}

// Undo records it as it was.
func (s *SaveSite) Undo(ctx context.Context) error { return s.Book.Ledger.KeepSite(ctx, s.Before) }
