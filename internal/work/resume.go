package work

import (
	"context"
	"errors"
	"io/fs"

	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// Resumed is a job that was brought to its end.
type Resumed struct {
	Done
	Way  Operation
	Gone bool // the site was removed
}

// Resume brings a job that was cut off to its end. One that had settled is
// finished. Of any other, what was begun is taken back, for nobody knows how
// far its last step had come, and the same is done again.
func (d *Service) Resume(ctx context.Context, id string) (*Resumed, error) {
	header, over, err := d.headerOf(id)
	if err != nil {
		return nil, err
	}
	way, known := d.Ways.Of(header.What)
	if over && known {
		if entry, err := d.ledgerJob(ctx, id); err == nil && entry.Ended != nil && entry.Outcome == ledger.Done {
			return d.resumed(ctx, way, header) // it did all that it was to do, and that is on record
		}
	}
	if !known || way.Again == nil {
		return nil, fault.New(fault.Usage, "the journal does not say what was asked for", header.ID,
			"Take it back with: "+fault.Call("undo", id)+"; then give the command again.")
	}
	again, err := way.Again(ctx, d, header)
	if err != nil {
		return nil, err
	}
	entry, err := d.Undo(ctx, id)
	if err != nil {
		return nil, err
	}
	if entry.Outcome != ledger.Undone {
		return d.resumed(ctx, way, header)
	}
	done, err := again(ctx)
	if err != nil {
		return nil, err
	}
	if done == nil {
		return d.resumed(ctx, way, header)
	}
	return &Resumed{Done: *done, Way: way}, nil
}

// resumed tells what a job came to that was finished.
func (d *Service) resumed(ctx context.Context, way Operation, header job.Header) (*Resumed, error) {
	r := &Resumed{Way: way, Done: Done{Job: header.ID, Given: !way.New, Checks: []check.Checked{}, Warnings: []string{},
		Todo: []string{}}}
	found, err := d.Book.Ledger.Site(ctx, header.Address)
	if errors.Is(err, fs.ErrNotExist) {
		r.Gone = true
		r.Done.Site.Address = header.Address
		return r, nil
	}
	if err != nil {
		return r, err
	}
	d.Book.FillIn(&found)
	r.Done.Site = found
	if way.New {
		r.Password, err = d.Book.Vault.Get(site.VaultName(header.Address, site.AdminPassword))
	}
	return r, err
}

// headerOf reads the first line of a job's journal, and whether nothing is left to be done or
// undone.
func (d *Service) headerOf(id string) (header job.Header, over bool, err error) {
	journal, err := d.openJournal(id)
	if err != nil {
		return job.Header{}, false, err
	}
	return journal.Header, journal.Over(), journal.Close()
}
