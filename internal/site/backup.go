package site

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
	"tivset/internal/hosting/files"
	"tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
)

// BackupRequest is a backup that somebody wants.
type BackupRequest struct {
	Site string
	Into string   // a folder on this machine; "" for the account's store
	To   []string // public keys of age to encrypt it to
	Keep string   // which are kept, such as 7d,4w,6m; "" for all
}

// BackedUp is a backup that was made.
type BackedUp struct {
	Site ledger.Site
	Kept
	backup.Summary
	MadeAt    time.Time
	Encrypted bool
	Warnings  []string
	Dropped   []string // older ones that were not to be kept
}

// nameForm is how backups are named by their time, so that they sort.
const nameForm = "20060102-150405"

const packedEnd, sealedEnd = ".tar.zst", ".tar.zst.age"

// backupFolder is where a site's backups are in the account.
func backupFolder(store, address string) string {
	return path.Join(store, "backups", slug(address))
}

func slug(address string) string { return strings.NewReplacer("/", "_", ":", "_").Replace(address) }

// Backup makes a backup of a site.
func (s *Service) Backup(ctx context.Context, r BackupRequest) (*BackedUp, error) {
	var rotation *Rotation
	if r.Keep != "" {
		parsed, err := ParseRotation(r.Keep)
		if err != nil {
			return nil, err
		}
		rotation = &parsed
	}
	if _, err := backup.Recipients(r.To); err != nil {
		return nil, fault.New(fault.Usage, "the backup cannot be encrypted", "--to", "Give a public key of age, which begins with age1.").Because(err)
	}
	h, err := s.hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	defer h.files.Close()
	e, err := s.begin(h)
	if err != nil {
		return nil, err
	}
	made := &BackedUp{}
	err = e.carryOut(ctx, work{what: "back up", app: h.App, address: h.Address, url: h.URL, request: r, steps: func(ctx context.Context) (steps, error) {
		claimed, mark := e.claimed(&h.Site)
		step, err := e.backUp(h, r.Into, r.To, made)
		if err != nil {
			return steps{}, err
		}
		return steps{list: []job.Step{claimed, step,
			&saveSite{env: e, Before: h.Site, after: func(context.Context) (ledger.Site, error) {
				x := h.Site
				x.LastBackupAt = &made.MadeAt
				return x, nil
			}},
			e.tidyUp(mark)}}, nil
	}})
	if err != nil {
		return nil, err
	}
	if rotation != nil {
		made.Dropped, err = s.rotate(ctx, h, r.Into, *rotation)
	}
	return made, err
}

// backUp makes the step that backs a site up.
func (e *env) backUp(h *held, into string, recipients []string, made *BackedUp) (*backUp, error) {
	made.MadeAt = e.Now().UTC().Truncate(time.Second)
	end := packedEnd
	if len(recipients) > 0 {
		end = sealedEnd
	}
	folder := ""
	if into != "" {
		var err error
		if folder, err = filepath.Abs(into); err != nil {
			return nil, err
		}
	}
	b := &backUp{env: e, site: h.Site, made: made, Recipients: recipients, named: func(at time.Time) Kept {
		name := at.Format(nameForm) + end
		if folder != "" {
			return Kept{filepath.Join(folder, slug(h.Address)+"-"+name), true}
		}
		return Kept{File: path.Join(backupFolder(e.account.Store, h.Address), name)}
	}}
	b.Kept = b.named(made.MadeAt)
	return b, nil
}

// tidyUp takes a job's mark and stage away, and what was kept for its undo.
func (e *env) tidyUp(mark string) *tidy {
	store := e.account.Store
	return &tidy{env: e, Stage: path.Join(store, "stage", e.job), Marker: mark,
		Drop: []string{path.Join(store, "stage"), path.Join(store, "aside"), path.Join(store, "busy"), store}}
}

// Backups lists the backups of a site, newest first: those in the account's
// store, or those in a folder here.
func (s *Service) Backups(ctx context.Context, word, folder string) ([]Listed, error) {
	found, err := s.Site(ctx, word)
	if err != nil {
		return nil, err
	}
	a, err := s.Home.Account(found.Account)
	if err != nil {
		return nil, err
	}
	if folder != "" {
		return backupsHere(found.Address, folder)
	}
	fsys, err := s.OpenFiles(ctx, a)
	if err != nil {
		return nil, unreachable(a, err)
	}
	defer fsys.Close()
	return backupsIn(ctx, fsys, backupFolder(a.Store, found.Address))
}

// Listed is a backup that is there.
type Listed struct {
	Kept
	MadeAt    time.Time `json:"made_at"`
	Bytes     int64     `json:"bytes"`
	Encrypted bool      `json:"encrypted"`
}

func backupsIn(ctx context.Context, f files.FS, folder string) ([]Listed, error) {
	inside, err := f.List(ctx, folder)
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

func backupsHere(address, folder string) ([]Listed, error) {
	inside, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return []Listed{}, nil
	}
	out := []Listed{}
	for _, i := range inside {
		name, is := strings.CutPrefix(i.Name(), slug(address)+"-")
		info, err := i.Info()
		if !is || err != nil {
			continue
		}
		if l, is := listed(name, info.Size()); is {
			l.Kept = Kept{filepath.Join(folder, i.Name()), true}
			out = append(out, l)
		}
	}
	slices.Reverse(out)
	return out, err
}

func listed(name string, bytes int64) (Listed, bool) {
	l := Listed{Bytes: bytes, Encrypted: strings.HasSuffix(name, sealedEnd)}
	stem, is := strings.CutSuffix(strings.TrimSuffix(name, ".age"), packedEnd)
	var err error
	l.MadeAt, err = time.Parse(nameForm, stem)
	return l, is && err == nil
}

// rotate drops the backups that are not to be kept.
func (s *Service) rotate(ctx context.Context, h *held, into string, r Rotation) ([]string, error) {
	folder := backupFolder(h.plan.account.Store, h.Address)
	all, err := backupsIn(ctx, h.files, folder)
	if into != "" {
		all, err = backupsHere(h.Address, into)
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
		if !slices.Contains(outdated, l.MadeAt) {
			continue
		}
		if l.Here {
			err = os.Remove(l.File)
		} else {
			err = h.files.Remove(ctx, l.File)
		}
		if err != nil {
			return dropped, err
		}
		dropped = append(dropped, l.File)
	}
	return dropped, nil
}
