package requests

import (
	"context"

	"tivset/internal/step"
	"tivset/internal/work"
	"tivset/internal/work/backup"
	"tivset/internal/work/batch"
	"tivset/internal/work/restore"
)

// Backup asks for a backup of a site.
type Backup struct{ backup.Request }

// Kind implements batch.Request.
func (*Backup) Kind() string { return "backup" }

// Where implements batch.Request.
func (r *Backup) Where(ctx context.Context, d *work.Service) (batch.Where, error) {
	return recorded(ctx, d, r.Site)
}

// Plan implements batch.Request.
func (r *Backup) Plan(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	if err := backup.Valid(r.Request); err != nil {
		return nil, err
	}
	out, err := of(ctx, d, r.Site)
	if err != nil {
		return nil, err
	}
	out.Do = func(ctx context.Context, d *work.Service) (batch.Ended, error) {
		made, err := backup.Make(ctx, d, r.Request)
		return &BackedUp{made}, err
	}
	return out, nil
}

// BackedUp is what came of a backup.
type BackedUp struct{ *step.BackedUp }

// Outcome implements batch.Ended.
func (*BackedUp) Outcome() string { return "backed up" }

// OK implements batch.Ended.
func (*BackedUp) OK() bool { return true }

// Restore asks for a site as a backup has it.
type Restore struct{ restore.Request }

// Kind implements batch.Request.
func (*Restore) Kind() string { return "restore" }

// files implements Files: a backup may be named that lies in the account.
func (r *Restore) files() []File { return []File{{Name: &r.From, May: true}, {Name: &r.Identity}} }

// Where implements batch.Request.
func (r *Restore) Where(ctx context.Context, d *work.Service) (batch.Where, error) {
	if r.Into != "" {
		at := r.At
		if at == "" {
			x, err := d.Book.Find(ctx, r.Site)
			if err != nil {
				return batch.Where{}, err
			}
			at = x.URL
		}
		return placed(d, r.Into, at)
	}
	if known, err := d.Book.Knows(ctx, r.Site); err != nil || known {
		return recorded(ctx, d, r.Site)
	}
	return placed(d, r.Account, r.Site)
}

// Plan implements batch.Request.
func (r *Restore) Plan(ctx context.Context, d *work.Service) (*batch.Plan, error) {
	p, err := restore.Look(ctx, d, r.Request)
	if err != nil {
		return nil, err
	}
	out := &batch.Plan{Shown: p, Free: p.Site == nil, Release: p.Close, Do: func(ctx context.Context,
		d *work.Service) (batch.Ended, error) {
		done, err := restore.Carry(ctx, d, p)
		return &Restored{done}, err
	}}
	if p.Site != nil && p.Site.Database != nil {
		out.Server = p.Site.Database.Server
	}
	out.Where, err = r.Where(ctx, d)
	if err != nil {
		_ = out.Close()
		return nil, err
	}
	return out, nil
}

// Restored is what came of a restore.
type Restored struct{ *restore.Done }

// Outcome implements batch.Ended.
func (*Restored) Outcome() string { return "restored" }

// OK implements batch.Ended.
func (*Restored) OK() bool { return true }
