// Package remove is the way of a site out of an account: what is the site's own
// goes, after a backup, and nothing else.
package remove

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"

	"tivset/internal/app/release"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/question"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/step"
	"tivset/internal/work"
)

// Way is this way's line in the table.
func Way() work.Operation {
	return work.Operation{Name: "remove", Past: "removed",
		Again: work.AgainWith(func(ctx context.Context, d *work.Service, r Request) error {
			p, err := Look(ctx, d, r)
			if err != nil {
				return err
			}
			defer p.Close()
			_, err = Remove(ctx, d, p)
			return err
		})}
}

// Request is a site that somebody wants taken out.
type Request struct {
	Site      string
	Only      string // files or data; "" for both
	NoBackup  bool   // no last backup
	WithAdded bool   // files that the owner added go too
	// addresses that lead to the site stay, and lead nowhere
	KeepRedirects bool
	Into          string // the last backup's folder on this machine; "" for the account's store

	besideStays bool // what lies beside the site's own entries stays all the same
}

// Plan is what a removal will do.
type Plan struct {
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
	Leading  []string    `json:"redirects,omitempty"` // addresses that lead to the site and go along

	request Request
	source  *work.Held
}

// Close lets go of the account.
func (p *Plan) Close() error { return p.source.Close() }

// Done is what a removal came to.
type Done struct {
	Job    string
	Plan   *Plan
	Backup *step.BackedUp

	Freed    []string // addresses that led to the site
	Warnings []string // of what happened on the way
}

// Look works out what goes and what stays. The caller closes it.
func Look(ctx context.Context, d *work.Service, r Request) (*Plan, error) {
	if r.Only != "" && r.Only != check.OnlyFiles && r.Only != check.OnlyData {
		return nil, fault.New(fault.Usage, "“"+r.Only+"” cannot be removed by itself", "--only", "It is files or data.")
	}
	h, err := d.Hold(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	p, err := look(ctx, d, h, r)
	if err != nil {
		return nil, work.Closing(h, err)
	}
	return p, nil
}

func look(ctx context.Context, d *work.Service, h *work.Held, r Request) (*Plan, error) {
	p := &Plan{Site: h.Site, Goes: []string{}, Stays: []string{}, PutBack: []string{}, Warnings: []string{},
		Backup: !r.NoBackup, request: r, source: h}
	if r.Only != check.OnlyData {
		if err := p.sortFiles(ctx, d); err != nil {
			return nil, err
		}
		p.Timers = len(h.Of.Kit.Timers) > 0 && h.In.HasCrontab()
		for _, name := range h.SetAside {
			there, err := files.Exists(ctx, h.In.Files, step.AsideOf(h.In.Store(), h.Site, name))
			if err != nil {
				return nil, err
			}
			if there {
				p.PutBack = append(p.PutBack, name)
			}
		}
	}
	leading, err := d.Book.Ledger.Redirects(ctx)
	if err != nil {
		return nil, err
	}
	for _, l := range leading {
		switch {
		case l.To != h.URL || r.Only != "":
		case r.KeepRedirects:
			p.Warnings = append(p.Warnings, l.Address+" leads to this site, and will lead nowhere; to take that away: "+
				fault.Call("free", l.Address))
		default:
			p.Leading = append(p.Leading, l.Address)
		}
	}
	if db := h.Database; db != nil && r.Only != check.OnlyFiles {
		p.Database = db.Name
		if site.OwnTables(db) != nil || db.From != question.DataNew {
			p.Tables = db.Tables
		} else {
			p.User = db.User
		}
	}
	return p, nil
}

// sortFiles tells what of the site's folder goes and what stays.
func (p *Plan) sortFiles(ctx context.Context, d *work.Service) error {
	h := p.source
	foreign, err := d.Book.Foreign(ctx, h.Of)
	if err != nil {
		return err
	}
	keep := slices.Clone(foreign)
	if !p.request.WithAdded {
		added, err := p.added(ctx, d, foreign)
		if err != nil {
			return err
		}
		keep, p.Stays = append(keep, added...), append(p.Stays, added...)
	}
	inside, err := h.In.Files.List(ctx, h.Folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, i := range inside {
		full := path.Join(h.Folder, i.Name)
		switch {
		case slices.Contains(h.Entries, i.Name):
			parts, err := files.Besides(ctx, h.In.Files, full, keep)
			if err != nil {
				return err
			}
			p.Goes = append(p.Goes, parts...)
		case p.request.WithAdded && !p.request.besideStays && !keep.Has(full) && !keep.Below(full):
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

// added lists the files that the owner added among the app's. Where nobody can
// tell, none, with a warning.
func (p *Plan) added(ctx context.Context, d *work.Service, foreign files.Others) ([]string, error) {
	h := p.source
	of, err := h.Of.Content(ctx, d.Archives)
	if err != nil {
		p.Warnings = append(p.Warnings, "it cannot be told which files were added by hand, for the archive of "+h.App+" "+
			h.Release+" cannot be had: all that is in the app's folders goes")
		return nil, nil
	}
	c, err := release.Compare(ctx, h.Of.FolderOf(h.In.Files, h.Entries, foreign), of, false, func(int64, int64, string) {})
	var out []string
	for _, name := range c.Added {
		out = append(out, path.Join(h.Folder, name))
	}
	return out, err
}

// Remove carries a plan out.
func Remove(ctx context.Context, d *work.Service, p *Plan) (*Done, error) {
	h, r := p.source, p.request
	t, err := d.Begin(h.In, h.Of)
	if err != nil {
		return nil, err
	}
	done := &Done{Job: t.Job, Plan: p}
	err = d.CarryOut(ctx, t, work.Job{Way: Way(), Request: r, List: func(context.Context) (job.List, func(), error) {
		list, err := p.steps(t, done)
		return list, nil, err
	}})
	if err != nil {
		return nil, err
	}
	done.Warnings = append([]string{}, t.Result.Warnings...)
	p.free(ctx, d, done)
	return done, nil
}

// free takes away the redirects that led to the site, which is gone: what stops one does not bring it back.
func (p *Plan) free(ctx context.Context, d *work.Service, done *Done) {
	all, err := d.Book.Ledger.Redirects(ctx)
	for _, r := range all {
		if !slices.Contains(p.Leading, r.Address) || r.To != p.Site.URL {
			continue
		}
		stays, dropErr := d.Book.DropRedirect(ctx, d.Hosting, r)
		if dropErr != nil {
			done.Warnings = append(done.Warnings, r.Address+" still leads to where the site was: "+fault.Of(dropErr).Error()+
				"; to take that away: "+fault.Call("free", r.Address))
			continue
		}
		done.Freed = append(done.Freed, r.Address)
		for _, name := range stays {
			done.Warnings = append(done.Warnings, name+" was changed by somebody, and stays")
		}
	}
	if err != nil {
		done.Warnings = append(done.Warnings, "whether an address leads to where the site was cannot be told: "+err.Error())
	}
}

func (p *Plan) steps(t *step.Tools, done *Done) (job.List, error) {
	h, r := p.source, p.request
	closed, rest := p.Closing(t)
	list := []job.Step{step.ClaimOf(t, h.Address, &h.Site), closed}
	if !r.NoBackup {
		done.Backup = &step.BackedUp{}
		kept, err := step.BackUpOf(t, h.Site, step.BeforeRemove, r.Into, nil, done.Backup)
		if err != nil {
			return job.List{}, err
		}
		kept.Closed = closed
		list = append(list, kept)
	}
	end := p.End(t)
	if len(p.Goes) > 0 {
		aside := t.Store().Aside(t.Job)
		list = append(list, &step.Swap{Tools: t, Phase: step.Phase{Of: job.StageRemoving}, Label: "Take the files out",
			List: func(context.Context) ([]files.Move, error) {
				return append(takenOut(rest, aside), closed.Departures()...), nil
			}})
		end.Paths = []string{aside}
	}
	saved := step.Saved(t, h.Site, func(x *ledger.Site) {
		x.Gone, x.LastJob, x.Health = r.Only, t.Job, "gone"
		if r.Only == "" || h.Gone != "" && h.Gone != r.Only {
			x.Gone = check.All
		}
	})
	return job.List{Steps: list, Commit: saved, Finish: []job.PostCommit{end, step.TidyUp(t, h.Address, "")}}, nil
}

// Closing makes the step that closes the site by what of its folder goes. Rest is
// what goes besides.
func (p *Plan) Closing(t *step.Tools) (closed *step.Close, rest []string) {
	var inside []string
	for _, name := range p.Goes {
		if files.Within(name, p.Site.Folder) {
			inside = append(inside, name)
		} else {
			rest = append(rest, name)
		}
	}
	closed = step.CloseOf(t, p.source.Of, p.Site)
	closed.Lenient = true
	closed.Parts = func(context.Context) ([]string, error) { return slices.Clone(inside), nil }
	return closed, rest
}

// takenOut lists the moves that take paths into a folder, each under its whole
// name.
func takenOut(paths []string, to string) []files.Move {
	var out []files.Move
	for _, p := range paths {
		out = append(out, files.Move{From: p, To: path.Join(to, p)})
	}
	return out
}

// End makes what finishes a removal.
func (p *Plan) End(t *step.Tools) *step.Removal {
	return &step.Removal{Tools: t, Old: p.Site, Paths: p.Goes, Files: p.request.Only != check.OnlyData,
		Data: p.request.Only != check.OnlyFiles && p.Database != ""}
}

// Whole works out what goes of a held site when all of it does, without a
// backup: the end of a move. What its owner added among the app's files has been
// brought along, and goes too; what lies beside them stays.
func Whole(ctx context.Context, d *work.Service, h *work.Held) (*Plan, error) {
	return look(ctx, d, h, Request{WithAdded: true, besideStays: true})
}
