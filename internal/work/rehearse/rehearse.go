// Package rehearse tries an update on a copy: the copy is made beside the site under a name
// that nobody can guess, brought to the new release, checked, compared with the site, and
// taken away again.
package rehearse

import (
	"cmp"
	"context"
	"errors"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/work"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/update"
)

// Rehearsed is what a rehearsal came to.
type Rehearsed struct {
	From     string        `json:"from"`
	To       string        `json:"to"`
	OK       bool          `json:"ok"`
	Pages    []Page        `json:"pages"`    // those that were compared
	Problems []string      `json:"problems"` // what would be worse than it is
	Took     time.Duration `json:"-"`
	Seconds  int           `json:"seconds"`

	// whether it was the release that failed: then it would fail at the site too
	Tried bool `json:"release_tried"`
}

// removal is for how long a copy is tried to be taken away after an interrupt.
const removal = 5 * time.Minute

// Rehearse rehearses an update. That the release does not do is no error: it is in what is
// given. An error says why there was no rehearsal.
func Rehearse(ctx context.Context, d *work.Service, r update.Request) (out *Rehearsed, err error) {
	x, err := d.Book.Find(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	if err := possible(d, x); err != nil {
		return nil, err
	}
	p, err := update.Look(ctx, d, r) // what stands against the update itself is found without a copy
	if err != nil {
		return nil, err
	}
	if err := p.Close(); err != nil {
		return nil, err
	}
	begun := d.Now()
	var copied ledger.Site
	if err := act(d, "Make a copy to rehearse on", func(d *work.Service) (err error) {
		copied, err = copyOf(ctx, d, x)
		return err
	}); err != nil {
		return nil, cannot(x, err)
	}
	defer func() {
		within, end := context.WithTimeout(context.WithoutCancel(ctx), removal)
		defer end()
		gone := act(d, "Take the copy away", func(d *work.Service) error { return takeAway(within, d, copied.Address) })
		err = errors.Join(err, gone)
	}()
	out, err = onCopy(ctx, d, x, copied, r)
	if err != nil {
		return nil, err
	}
	out.Took = d.Now().Sub(begun)
	out.Seconds = int(out.Took.Seconds())
	return out, nil
}

// act shows a part of a rehearsal as one stage: what its jobs do one by one is of no
// interest, only how far they are.
func act(d *work.Service, title string, do func(*work.Service) error) error {
	if d.Progress == nil {
		return do(d)
	}
	quiet := *d
	quiet.Progress = func(e job.Event) {
		if e.Count > 0 && !e.Undo {
			d.Progress(job.Event{Title: title, Count: e.Count, Total: e.Total, Unit: e.Unit})
		}
	}
	d.Progress(job.Event{Title: title})
	err := do(&quiet)
	d.Progress(job.Event{Title: title, Done: err == nil, Failed: err != nil})
	return err
}

// possible says why a site cannot be copied; nil when it can, as far as its record tells.
func possible(d *work.Service, x ledger.Site) error {
	a, err := d.Book.Home.Account(x.Account)
	if err != nil || x.Database == nil {
		return err
	}
	for i := range a.Databases {
		if s := &a.Databases[i]; s.Name == x.Database.Server && s.Make == account.ByHand {
			return fault.New(fault.NeedsConfirmation, "an update cannot be rehearsed where databases are made by hand",
				x.Address,
				"Make it without a rehearsal: "+fault.Call("update", x.Address))
		}
	}
	return nil
}

// cannot words why there was no rehearsal.
func cannot(x ledger.Site, err error) error {
	f := *fault.Of(err)
	f.What = "the update could not be rehearsed: " + f.What
	f.Where = cmp.Or(f.Where, x.Address)
	return &f
}

// copyOf makes the copy.
func copyOf(ctx context.Context, d *work.Service, x ledger.Site) (ledger.Site, error) {
	token, err := d.Maker.Token(site.RehearsalLetters)
	if err != nil {
		return ledger.Site{}, err
	}
	scheme, rest, _ := strings.Cut(x.URL, "://")
	host, _, _ := strings.Cut(rest, "/")
	p, err := place.Look(ctx, d, place.Request{Site: x.Address, Account: x.Account,
		At: scheme + "://" + host + "/" + site.RehearsalAt(token)})
	if err != nil {
		return ledger.Site{}, err
	}
	defer p.Close()
	done, err := place.Carry(ctx, d, p)
	if err != nil {
		return ledger.Site{}, err
	}
	return done.Site, nil
}

// onCopy brings the copy to the release, and compares it with the site.
func onCopy(ctx context.Context, d *work.Service, x, copied ledger.Site, r update.Request) (*Rehearsed, error) {
	r.Site, r.NoBackup = copied.Address, true // it is a copy itself
	p, err := update.Look(ctx, d, r)
	if err != nil {
		return nil, cannot(x, err)
	}
	defer p.Close()
	out := &Rehearsed{From: p.From, To: p.To, Pages: []Page{}, Problems: []string{}}
	err = act(d, "Bring the copy to "+p.To, func(d *work.Service) (err error) {
		_, out.Tried, err = update.Try(ctx, d, p)
		return err
	})
	if err != nil {
		if !out.Tried || ctx.Err() != nil {
			return nil, cannot(x, err)
		}
		f := fault.Of(err)
		out.Problems = append(out.Problems, strings.ReplaceAll(f.What, copied.URL, x.URL))
		return out, nil
	}
	out.Tried = true
	err = act(d, "Compare it with the site", func(d *work.Service) error { return out.compare(ctx, d, x, copied) })
	if err != nil {
		return nil, err
	}
	out.OK = len(out.Problems) == 0
	return out, nil
}

// takeAway removes a copy with all that came with it.
func takeAway(ctx context.Context, d *work.Service, address string) error {
	p, err := remove.Look(ctx, d, remove.Request{Site: address, NoBackup: true, WithAdded: true})
	if err == nil {
		defer p.Close()
		_, err = remove.Remove(ctx, d, p)
	}
	if err != nil {
		return fault.New(fault.Incomplete, "the copy of a rehearsal is still there", address, "Take it away: "+
			fault.Call("remove", address, "--no-backup", "--yes")).Wrap(err)
	}
	return nil
}

// leftFor is after how long a copy of a rehearsal cannot be one that is under way.
const leftFor = 2 * time.Hour

// Sweep takes away the copies of rehearsals that were cut off, in an account or, with "",
// in all.
func Sweep(ctx context.Context, d *work.Service, within string) error {
	sites, err := d.Book.Ledger.Sites(ctx)
	for _, x := range sites {
		old := d.Now().Sub(x.InstalledAt) > leftFor
		if site.IsRehearsal(x.Address) && x.CopyOf != "" && old && (within == "" || within == x.Account) {
			err = errors.Join(err, takeAway(ctx, d, x.Address))
		}
	}
	return err
}
