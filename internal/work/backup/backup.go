// Package backup is the way of a site into a file, and the list of the files
// that are there.
package backup

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	format "tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/step"
	"tivset/internal/work"
)

// Way is this way's line in the table.
func Way() work.Way {
	return work.Way{Name: "back up", Past: "backed up",
		Again: work.AgainWith(func(ctx context.Context, d *work.Desk, r Request) error {
			_, err := Make(ctx, d, r)
			return err
		})}
}

// Request is a backup that somebody wants.
type Request struct {
	Site string
	Into string   // a folder on this machine; "" for the account's store
	To   []string // public keys of age to encrypt it to
	Keep string   // which are kept, such as 7d,4w,6m; "" for all
}

// Make makes a backup of a site.
func Make(ctx context.Context, d *work.Desk, r Request) (*step.BackedUp, error) {
	var rotation *Rotation
	if r.Keep != "" {
		parsed, err := ParseRotation(r.Keep)
		if err != nil {
			return nil, err
		}
		rotation = &parsed
	}
	if _, err := format.Recipients(r.To); err != nil {
		return nil, fault.New(fault.Usage, "the backup cannot be encrypted", "--to",
			"Give a public key of age, which begins with age1.").Because(err)
	}
	h, err := d.Hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	t, err := d.Begin(h.In, h.Of)
	if err != nil {
		return nil, err
	}
	made := &step.BackedUp{}
	err = d.CarryOut(ctx, t, work.Job{Way: Way(), Request: r, List: func(context.Context) (job.List, func(), error) {
		backUp, err := step.BackUpOf(t, h.Site, r.Into, r.To, made)
		return job.List{Steps: []job.Step{step.ClaimOf(t, h.Address, &h.Site), backUp},
			Settle: step.Saved(t, h.Site, func(x *ledger.Site) { x.LastBackupAt = &made.MadeAt }),
			Finish: []job.Finisher{step.TidyUp(t, h.Address, "")}}, nil, err
	}})
	if err == nil && rotation != nil {
		made.Dropped, err = rotate(ctx, h, r.Into, *rotation, made.File)
	}
	if err != nil {
		return nil, err
	}
	return made, nil
}

// Listed is a backup that is there.
type Listed struct {
	step.Kept
	MadeAt    time.Time `json:"made_at"`
	Bytes     int64     `json:"bytes"`
	Encrypted bool      `json:"encrypted"`
}

// List lists the backups of a site, newest first: those in the account's store,
// or those in a folder here.
func List(ctx context.Context, d *work.Desk, word, folder string) ([]Listed, error) {
	found, err := d.Book.Find(ctx, word)
	if err != nil {
		return nil, err
	}
	if folder != "" {
		return here(found.Address, folder)
	}
	a, err := d.Book.Home.Account(found.Account)
	if err != nil {
		return nil, err
	}
	in, err := d.Hosting.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	return In(ctx, in, found.Address)
}

// In lists the backups of an address in an account's store, newest first.
func In(ctx context.Context, in *hosting.Account, address string) ([]Listed, error) {
	folder := in.Store().Backups(address)
	inside, err := in.Files.List(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		return []Listed{}, nil
	}
	out := []Listed{}
	for _, i := range inside {
		if l, is := listed(i.Name, i.Size); is {
			l.File = path.Join(folder, i.Name)
			out = append(out, l)
		}
	}
	slices.Reverse(out) // names are times
	return out, err
}

// here lists those in a folder of this machine.
func here(address, folder string) ([]Listed, error) {
	inside, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return []Listed{}, nil
	}
	out := []Listed{}
	for _, i := range inside {
		name, is := strings.CutPrefix(i.Name(), hosting.Slug(address)+"-")
		info, err := i.Info()
		if !is || err != nil {
			continue
		}
		if l, is := listed(name, info.Size()); is {
			l.Kept = step.Kept{File: filepath.Join(folder, i.Name()), Here: true}
			out = append(out, l)
		}
	}
	slices.Reverse(out)
	return out, err
}

func listed(name string, bytes int64) (Listed, bool) {
	at, sealed, is := step.BackupNamed(name)
	return Listed{MadeAt: at, Bytes: bytes, Encrypted: sealed}, is
}

// rotate drops the backups that are not to be kept; never the one that was just
// made, though one of a clock that is ahead seems newer.
func rotate(ctx context.Context, h *work.Held, into string, r Rotation, made string) ([]string, error) {
	all, err := In(ctx, h.In, h.Address)
	if into != "" {
		all, err = here(h.Address, into)
	}
	if err != nil {
		return nil, err
	}
	var moments []time.Time
	for _, l := range all {
		moments = append(moments, l.MadeAt)
	}
	var dropped []string
	outdated := r.Outdated(moments)
	for _, l := range all {
		if l.File == made || !slices.Contains(outdated, l.MadeAt) {
			continue
		}
		if l.Here {
			err = os.Remove(l.File)
		} else {
			err = files.Drop(ctx, h.In.Files, l.File)
		}
		if err != nil {
			return dropped, err
		}
		dropped = append(dropped, l.File)
	}
	return dropped, nil
}
