package step

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"

	"tivset/internal/check"
	"tivset/internal/hosting"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/question"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// Removal takes away what is left of a site, once nothing can be put back any
// more, and its record. Cut off, it is carried out again.
type Removal struct {
	*Tools  `json:"-"`
	Old     ledger.Site      `json:"site"`
	Paths   []string         `json:"paths"`             // files and folders
	Files   bool             `json:"files"`             // the files are gone, with all that goes with them
	Data    bool             `json:"data"`              // the data goes
	Moved   string           `json:"moved,omitempty"`   // with a move: the new address …
	Leads   *ledger.Redirect `json:"leads,omitempty"`   // … to which the old one leads; nil when it leads nowhere
	Backups string           `json:"backups,omitempty"` // with a move: where its backups go
}

// Kind and Title implement job.PostCommit.
func (*Removal) Kind() string    { return "remove-old" }
func (r *Removal) Title() string { return "Take away what is left at " + r.Old.Address }

// Finish implements job.PostCommit.
func (r *Removal) Finish(ctx context.Context) error {
	t, done, err := r.inAccount(ctx, r.Old.Account)
	if err != nil {
		return err
	}
	defer done()
	x := r.Old
	if err := t.takeAway(ctx, r.Paths...); err != nil {
		return err
	}
	if err := t.dropBoard(ctx, boardOf(t)); err != nil {
		return err
	}
	if r.Data {
		if err := t.dropData(ctx, x); err != nil {
			return err
		}
	}
	if r.Files {
		if err := t.dropAround(ctx, x); err != nil {
			return err
		}
	}
	if r.Backups != "" {
		err := t.In.Files.Rename(ctx, t.Store().Backups(x.Address), r.Backups)
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	if err := r.lead(ctx, t); err != nil {
		return err
	}
	return r.dropRecord(ctx, t)
}

// dropRecord drops the site's record, unless only a part of it was to go.
func (r *Removal) dropRecord(ctx context.Context, t *Tools) error {
	address := r.Old.Address
	now, err := t.Book.Ledger.Site(ctx, address)
	switch {
	case err == nil && now.Gone != check.All && now.LastJob == r.Job:
		return nil
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if err := t.Book.Ledger.DropSite(ctx, address); err != nil {
		return err
	}
	return errors.Join(t.Book.Vault.Forget(site.VaultName(address, "")),
		t.In.DropMark(ctx, t.Store().Mark(address), r.Job, t.Store().Busy(), t.Store().Top()))
}

// dropData takes a site's database and user away; of one that is shared only
// the site's tables.
func (t *Tools) dropData(ctx context.Context, x ledger.Site) error {
	d := x.Database
	if d == nil {
		return nil
	}
	server := t.In.Database(d.Server, d.Engine)
	if server == nil {
		return hosting.NoServer(d.Server, d.Name)
	}
	if d.From != question.DataNew {
		at := DataPlace{Database: *d, Secret: site.VaultName(x.Address, site.DataPassword)}
		return at.use(ctx, t, func(s database.Session) error { return s.Empty(ctx, site.OwnTables(d)) })
	}
	err := t.In.WithServer(ctx, d.Server, func(s database.Server) error {
		if err := s.DropDatabase(ctx, d.Name); err != nil || d.User == "" {
			return err
		}
		return s.DropUser(ctx, database.User{Name: d.User, Clients: server.Clients, Database: d.Name})
	})
	if err == nil && server.InFiles() {
		err = files.RemoveAll(ctx, t.In.Files, path.Dir(database.File(server.Server, d.Name)))
	}
	return err
}

// dropAround takes away what goes with a site's files: timers, folders that came
// with it; and puts back what was set aside for it.
func (t *Tools) dropAround(ctx context.Context, x ledger.Site) error {
	if t.In.HasCrontab() {
		if err := t.In.EditCrontab(ctx, func(crontab string) string {
			return hosting.WithoutTimers(crontab, x.Address)
		}); err != nil {
			return err
		}
		if err := files.RemoveAll(ctx, t.In.Files, t.Store().TimersOf(x.Job)); err != nil {
			return err
		}
		if err := files.DropEmpty(ctx, t.In.Files, t.Store().Timers(), t.Store().Top()); err != nil {
			return err
		}
	}
	if err := files.DropEmpty(ctx, t.In.Files, x.FoldersMade...); err != nil {
		return err
	}
	if err := t.handOver(ctx, x); err != nil {
		return err
	}
	for _, name := range x.SetAside {
		kept := AsideOf(t.Store(), x, name)
		there, err := files.Exists(ctx, t.In.Files, kept)
		if err != nil {
			return err
		}
		if !there {
			continue
		}
		err = t.In.Files.Rename(ctx, kept, name)
		if errors.Is(err, fs.ErrExist) {
			return cameBack(name, kept)
		}
		if err != nil {
			return err
		}
	}
	return files.DropEmpty(ctx, t.In.Files, t.Store().Aside(x.Job), t.Store().Asides())
}

// AsideOf is where something that was set aside for a site is kept.
func AsideOf(store hosting.Store, x ledger.Site, name string) string {
	return path.Join(store.Aside(x.Job), path.Base(name))
}

// handOver has folders that came with the site, and now hold another one's, go
// with that one.
func (t *Tools) handOver(ctx context.Context, x ledger.Site) error {
	all, err := t.Book.Ledger.Sites(ctx)
	if err != nil {
		return err
	}
	for _, made := range x.FoldersMade {
		there, err := files.Exists(ctx, t.In.Files, made)
		if err != nil {
			return err
		}
		if !there {
			continue
		}
		inside := func(f string) bool { return files.Within(f, made) }
		heir := slices.IndexFunc(all, func(y ledger.Site) bool {
			return y.Account == x.Account && y.Address != x.Address && slices.ContainsFunc(t.foldersOf(y), inside)
		})
		if heir < 0 || slices.Contains(all[heir].FoldersMade, made) {
			continue
		}
		all[heir].FoldersMade = append(all[heir].FoldersMade, made)
		if err := t.Book.Ledger.PutSite(ctx, all[heir]); err != nil {
			return err
		}
	}
	return nil
}

// foldersOf lists the folders in which a site lies.
func (t *Tools) foldersOf(x ledger.Site) []string {
	out := []string{x.Folder}
	if x.DataFolder != "" {
		out = append(out, x.DataFolder)
	}
	if d := x.Database; d != nil {
		if server := t.In.Database(d.Server, d.Engine); server != nil && server.InFiles() {
			out = append(out, database.File(server.Server, d.Name))
		}
	}
	return out
}
