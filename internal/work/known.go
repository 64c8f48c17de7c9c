package work

import (
	"context"

	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/site"
)

// Ready has a held site be as it says of itself at present, and signs in with the
// stored password, before a job touches anything: an owner may have changed its
// title and its password yesterday. A password that the app refuses is a decision
// for the owner. A site whose pages do not answer is for the job: it may be there
// to mend that.
func (d *Service) Ready(ctx context.Context, h *Held) error {
	v, err := d.look(ctx, h)
	if err != nil {
		return nil // of what it is made, the job will find out
	}
	defer v.Close()
	if h.Of.Password().Empty() {
		return ctx.Err()
	}
	// Once: whoever sends wrong passwords again and again is locked out.
	if err := v.SignsIn(ctx); ctx.Err() != nil || fault.Of(err).Kind == fault.NeedsConfirmation {
		return err
	}
	return nil
}

// AsItIs has a held site be as it says of itself at present, for a job that needs
// no password that works.
func (d *Service) AsItIs(ctx context.Context, h *Held) {
	if v, err := d.look(ctx, h); err == nil {
		_ = v.Close()
	}
}

// look reads the site. What cannot be read is as it was recorded.
func (d *Service) look(ctx context.Context, h *Held) (*check.Visit, error) {
	v := &check.Visit{Site: h.Of, In: h.In, Maker: d.Maker, Now: d.Now, Once: true}
	if err := v.Open(); err != nil {
		return nil, err
	}
	now, _ := v.Read(ctx)
	h.Of = v.Site
	site.Note(&h.Site, now)
	return v, nil
}
