package site

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
)

// RemoveRequest is a site that somebody wants taken out.
type RemoveRequest struct {
	Site      string
	Only      string // files or data; "" for both
	NoBackup  bool   // no last backup
	WithAdded bool   // files that the owner added go too
	Into      string // the last backup's folder on this machine; "" for the account's store
}

// What --only takes.
const (
	onlyFiles = "files"
	onlyData  = "data"
)

// RemovePlan is what a removal will do.
type RemovePlan struct {
	Site     ledger.Site `json:"site"`
	Goes     []string    `json:"goes"`  // files and folders
	Stays    []string    `json:"stays"` // what is in the site's folder and is not the site's
	Database string      `json:"database,omitempty"`
	User     string      `json:"user,omitempty"`
	Tables   string      `json:"tables,omitempty"` // only tables that begin so go, of a database that is shared
	Timers   bool        `json:"timers"`
	PutBack  []string    `json:"put_back"` // what was set aside for the site
	Backup   bool        `json:"backup"`
	Warnings []string    `json:"warnings"`

	request RemoveRequest
	source  *held
}

// Close lets go of the account.
func (p *RemovePlan) Close() error { return p.source.files.Close() }

// Removed is what a removal came to.
type Removed struct {
	Job    string
	Plan   *RemovePlan
	Backup *BackedUp
}

// PlanRemove works out what goes and what stays. The caller closes it.
func (s *Service) PlanRemove(ctx context.Context, r RemoveRequest) (*RemovePlan, error) {
	if r.Only != "" && r.Only != onlyFiles && r.Only != onlyData {
		return nil, fault.New(fault.Usage, "“"+r.Only+"” cannot be removed by itself", "--only", "It is files or data.")
	}
	h, err := s.hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	p, err := s.planRemove(ctx, h, r)
	if err != nil {
		return nil, errors.Join(err, h.files.Close())
	}
	return p, nil
}

func (s *Service) planRemove(ctx context.Context, h *held, r RemoveRequest) (*RemovePlan, error) {
	p := &RemovePlan{Site: h.Site, Goes: []string{}, Stays: []string{}, PutBack: []string{}, Warnings: []string{}, Backup: !r.NoBackup, request: r, source: h}
	e, err := s.begin(h)
	if err != nil {
		return nil, err
	}
	if r.Only != onlyData {
		if err := e.sortFiles(ctx, h, r, p); err != nil {
			return nil, err
		}
		p.Timers = len(h.plan.kit.Timers) > 0 && e.account.Runtime.Crontab != ""
		for _, name := range h.SetAside {
			there, err := files.Exists(ctx, h.files, e.asideOf(h.Site, name))
			if err != nil {
				return nil, err
			}
			if there {
				p.PutBack = append(p.PutBack, name)
			}
		}
	}
	if d := h.Database; d != nil && r.Only != onlyFiles {
		p.Database = d.Name
		if ours(d) != nil || d.From != dataNew {
			p.Tables = d.Tables
		} else {
			p.User = d.User
		}
	}
	return p, nil
}

// asideOf is where something that was set aside for a site is kept.
func (e *env) asideOf(x ledger.Site, name string) string {
	return path.Join(e.account.Store, "aside", x.Job, path.Base(name))
}

// sortFiles tells what of the site's folder goes and what stays.
func (e *env) sortFiles(ctx context.Context, h *held, r RemoveRequest, p *RemovePlan) error {
	keep, err := e.foreign(ctx, h.plan)
	if err != nil {
		return err
	}
	keep = slices.Clone(keep)
	if !r.WithAdded {
		of, err := e.releaseOf(ctx, h.plan)
		if err != nil {
			p.Warnings = append(p.Warnings, "it cannot be told which files were added by hand, for the archive of "+h.App+" "+h.Release+" cannot be had: all that is in the app's folders goes")
		} else {
			c, err := e.compare(ctx, h.plan, h.Entries, of, false)
			if err != nil {
				return err
			}
			for _, name := range c.Added {
				keep = append(keep, path.Join(h.Folder, name))
				p.Stays = append(p.Stays, path.Join(h.Folder, name))
			}
		}
	}
	inside, err := h.files.List(ctx, h.Folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, i := range inside {
		full := path.Join(h.Folder, i.Name)
		switch {
		case slices.Contains(h.Entries, i.Name):
			parts, err := besides(ctx, h.files, full, keep)
			if err != nil {
				return err
			}
			p.Goes = append(p.Goes, parts...)
		case r.WithAdded && !keep.has(full) && !keep.below(full):
			p.Goes = append(p.Goes, full)
		default:
			p.Stays = append(p.Stays, full)
		}
	}
	if h.DataFolder != "" {
		p.Goes = append(p.Goes, h.DataFolder)
	}
	slices.Sort(p.Stays)
	return nil
}

// Remove carries a plan out.
func (s *Service) Remove(ctx context.Context, p *RemovePlan) (*Removed, error) {
	h, r := p.source, p.request
	e, err := s.begin(h)
	if err != nil {
		return nil, err
	}
	done := &Removed{Job: e.job, Plan: p}
	err = e.carryOut(ctx, work{what: "remove", app: h.App, address: h.Address, url: h.URL, request: r, steps: func(ctx context.Context) (steps, error) {
		claimed, mark := e.claimed(&h.Site)
		list := []job.Step{claimed}
		if !r.NoBackup {
			done.Backup = &BackedUp{}
			step, err := e.backUp(h, r.Into, nil, done.Backup)
			if err != nil {
				return steps{}, err
			}
			list = append(list, step)
		}
		aside := path.Join(e.account.Store, "aside", e.job)
		end := e.removalOf(p)
		if len(p.Goes) > 0 {
			list = append(list, &swap{env: e, Label: "Take the files out", list: func(context.Context) ([]move, error) { return takenOut(p.Goes, aside), nil }})
			end.Paths = []string{aside}
		}
		list = append(list, &saveSite{env: e, Before: h.Site, after: func(context.Context) (ledger.Site, error) {
			x := h.Site
			x.Gone, x.LastJob, x.Health = r.Only, e.job, "gone"
			if r.Only == "" || h.Gone != "" && h.Gone != r.Only {
				x.Gone = "all"
			}
			return x, nil
		}}, end)
		return steps{list: append(list, e.tidyUp(mark))}, nil
	}})
	if err != nil {
		return nil, err
	}
	return done, nil
}

// takenOut lists the moves that take paths into a folder, each under its whole
// name.
func takenOut(paths []string, to string) []move {
	var out []move
	for _, p := range paths {
		out = append(out, move{p, path.Join(to, p)})
	}
	return out
}

// removal takes away what is left of a site, once nothing can be put back any
// more, and its record. Cut off, it is carried out again.
type removal struct {
	*env     `json:"-"`
	Site     ledger.Site `json:"site"`
	Paths    []string    `json:"paths"`              // files and folders
	Files    bool        `json:"files"`              // the files are gone, with all that goes with them
	Data     bool        `json:"data"`               // the data goes
	Redirect string      `json:"redirect,omitempty"` // with a move: where the old address leads
	Backups  string      `json:"backups,omitempty"`  // with a move: where its backups go
}

func (*removal) Kind() string               { return "remove-old" }
func (r *removal) Title() string            { return "Take away what is left at " + r.Site.Address }
func (*removal) Undo(context.Context) error { return nil }

func (e *env) removalOf(p *RemovePlan) *removal {
	return &removal{env: e, Site: p.Site, Paths: p.Goes, Files: p.request.Only != onlyData, Data: p.request.Only != onlyFiles && p.Database != ""}
}

// removal makes the step that takes the source of a move away.
func (e *env) removal(ctx context.Context, h *held, r RemoveRequest) (*removal, error) {
	p, err := e.planRemove(ctx, h, r)
	if err != nil {
		return nil, err
	}
	return e.removalOf(p), nil
}

func (r *removal) Do(ctx context.Context) error {
	e, done, err := r.inItsAccount(ctx)
	if err != nil {
		return err
	}
	defer done()
	x := r.Site
	for _, name := range r.Paths {
		if err := files.RemoveAll(ctx, e.files, name); err != nil {
			return err
		}
	}
	if r.Data {
		if err := e.dropData(ctx, x); err != nil {
			return err
		}
	}
	if r.Files {
		if err := e.dropAround(ctx, x); err != nil {
			return err
		}
	}
	if r.Backups != "" {
		err := e.files.Rename(ctx, backupFolder(e.account.Store, x.Address), r.Backups)
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	if r.Redirect != "" {
		if err := e.redirect(ctx, x, r.Redirect); err != nil {
			return err
		}
	}
	now, err := e.Ledger.Site(ctx, x.Address)
	switch {
	case err == nil && now.Gone != "all" && now.LastJob == r.job:
		return nil // only a part of it was to go
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if err := e.Ledger.DropSite(ctx, x.Address); err != nil {
		return err
	}
	return errors.Join(e.Vault.Forget(vaultName(x.Address, "")), dropMarker(ctx, e.files, markerName(e.account.Store, x.Address), r.job, path.Join(e.account.Store, "busy"), e.account.Store))
}

// inItsAccount gives the job in the account of the site, which may be another
// than that of the job.
func (r *removal) inItsAccount(ctx context.Context) (*env, func(), error) {
	if r.Site.Account == r.account.Name {
		return r.env, func() {}, nil
	}
	a, err := r.Home.Account(r.Site.Account)
	if err != nil {
		return nil, nil, err
	}
	fsys, err := r.OpenFiles(ctx, a)
	if err != nil {
		return nil, nil, unreachable(a, err)
	}
	return &env{Service: r.Service, account: a, files: fsys, job: r.job, count: r.count}, func() { _ = fsys.Close() }, nil
}

// dropData takes a site's database and user away; of one that is shared only
// the site's tables.
func (e *env) dropData(ctx context.Context, x ledger.Site) error {
	d := x.Database
	if d == nil {
		return nil
	}
	server := e.account.Database(d.Server, d.Engine)
	if server == nil {
		return fault.New(fault.Failed, "the account has no database server "+d.Server+" any more", d.Name, "Add it to the account again.")
	}
	if d.From != dataNew {
		return dataPlace{Database: *d, Secret: vaultName(x.Address, dataPassword)}.use(ctx, e, func(s database.Session) error { return s.Empty(ctx, ours(d)) })
	}
	err := e.withServer(ctx, d.Server, func(s database.Server) error {
		if err := s.DropDatabase(ctx, d.Name); err != nil || d.User == "" {
			return err
		}
		return s.DropUser(ctx, database.User{Name: d.User, Clients: server.Clients, Database: d.Name})
	})
	if err == nil && d.Engine == account.SQLite {
		err = files.RemoveAll(ctx, e.files, path.Dir(database.File(server.Server, d.Name)))
	}
	return err
}

// dropAround takes away what goes with a site's files: timers, folders that came
// with it; and puts back what was set aside for it.
func (e *env) dropAround(ctx context.Context, x ledger.Site) error {
	if e.account.Runtime.Crontab != "" {
		if err := e.edit(ctx, func(crontab string) string { return withoutTimers(crontab, x.Address) }); err != nil {
			return err
		}
		if err := e.dropFetches(ctx, x); err != nil {
			return err
		}
	}
	if err := dropEmpty(ctx, e.files, x.FoldersMade...); err != nil {
		return err
	}
	if err := e.handOver(ctx, x); err != nil {
		return err
	}
	for _, name := range x.SetAside {
		err := e.files.Rename(ctx, e.asideOf(x, name), name)
		if err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return dropEmpty(ctx, e.files, path.Join(e.account.Store, "aside", x.Job), path.Join(e.account.Store, "aside"))
}

// handOver has folders that came with the site, and now hold another one's, go
// with that one.
func (e *env) handOver(ctx context.Context, x ledger.Site) error {
	all, err := e.Ledger.Sites(ctx)
	if err != nil {
		return err
	}
	for _, made := range x.FoldersMade {
		if there, err := files.Exists(ctx, e.files, made); err != nil || !there {
			if err != nil {
				return err
			}
			continue
		}
		heir := slices.IndexFunc(all, func(y ledger.Site) bool {
			return y.Account == x.Account && y.Address != x.Address && slices.ContainsFunc(e.foldersOf(y), func(f string) bool { return place.Within(f, made) })
		})
		if heir < 0 || contains(all[heir].FoldersMade, made) {
			continue
		}
		all[heir].FoldersMade = append(all[heir].FoldersMade, made)
		if err := e.Ledger.PutSite(ctx, all[heir]); err != nil {
			return err
		}
	}
	return nil
}

// foldersOf lists the folders in which a site lies.
func (e *env) foldersOf(x ledger.Site) []string {
	out := []string{x.Folder}
	if x.DataFolder != "" {
		out = append(out, x.DataFolder)
	}
	if d := x.Database; d != nil && d.Engine == account.SQLite {
		if server := e.account.Database(d.Server, d.Engine); server != nil {
			out = append(out, database.File(server.Server, d.Name))
		}
	}
	return out
}

// dropFetches takes away the files with a site's timers' addresses.
func (e *env) dropFetches(ctx context.Context, x ledger.Site) error {
	top := path.Join(e.account.Store, "timers")
	if err := files.RemoveAll(ctx, e.files, path.Join(top, x.Job)); err != nil {
		return err
	}
	return dropEmpty(ctx, e.files, top, e.account.Store)
}

// redirect leaves pages that lead to another address: by a rule where the
// server knows .htaccess (Apache manual, mod_alias), and by a page elsewhere.
func (e *env) redirect(ctx context.Context, x ledger.Site, to string) error {
	if _, err := files.MkdirAll(ctx, e.files, x.Folder, 0o755); err != nil {
		return err
	}
	escaped := strings.NewReplacer("&", "&amp;", `"`, "&quot;", "<", "&lt;").Replace(to)
	for name, text := range map[string]string{
		".htaccess":  "# The site has moved.\nRedirect 301 \"" + x.URL[strings.LastIndex(x.URL, x.Address)+len(domainOf(x.Address)):] + "\" \"" + to + "\"\n",
		"index.html": "<!doctype html><meta charset=\"utf-8\"><meta http-equiv=\"refresh\" content=\"0; url=" + escaped + "\"><link rel=\"canonical\" href=\"" + escaped + "\"><title>Moved</title><p>This site has moved to <a href=\"" + escaped + "\">" + escaped + "</a>.</p>\n",
	} {
		if err := files.Write(ctx, e.files, path.Join(x.Folder, name), []byte(text), 0o644); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	return nil
}

// domainOf is what of an address stands before its directory.
func domainOf(address string) string {
	domain, _, _ := strings.Cut(address, "/")
	return domain
}
