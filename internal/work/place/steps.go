package place

import (
	"context"
	"errors"
	"io"
	"os"
	"path"

	"tivset/internal/app/kit"
	"tivset/internal/app/rewrite"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/step"
	"tivset/internal/work"
	"tivset/internal/work/remove"
)

// placing is a copy, a move or a restore elsewhere that is carried out.
type placing struct {
	*step.Tools
	desk *work.Service
	plan *Plan

	content   *backup.Backup    // given with the plan, or taken of the source by a step
	temporary string            // a file of this machine with the source's backup, or ""
	kept      *step.BackUp      // the backup of the source …
	load      *step.LoadData    // … what loads its database, nil for none …
	change    *rewrite.Address  // … and what becomes of its address
	before    map[string]string // with a move: the marks of its tables before it was read …
	between   map[string]string // … and after
	leaves    *remove.Plan      // with a move: what goes at the old place …
	closed    *step.Close       // … and what closes it …
	guard     *step.Guard       // … and what keeps visitors out of the new place until it is checked
	leads     *ledger.Redirect  // … and what is to lead from there, or nil
}

// list gives the steps.
func (p *placing) list(ctx context.Context) (job.List, func(), error) {
	address, stage := p.plan.Address(), p.Store().Stage(p.Job)
	list := []job.Step{step.ClaimOf(p.Tools, address, p.plan.instead())}
	taken, err := p.take(ctx)
	if err != nil {
		return job.List{}, nil, err
	}
	ground, sent, err := work.Ground(p.Tools, p.plan.Plan)
	if err != nil {
		return job.List{}, nil, err
	}
	filled, err := p.fill(ctx, stage)
	if err != nil {
		return job.List{}, nil, err
	}
	list = append(append(append(list, ground...), taken...), filled...)
	run, err := p.Site.Runner(p.In, path.Join(stage, backup.Files), p.plan.Place.URL, p.Now())
	if err != nil {
		return job.List{}, nil, err
	}
	list = append(list, step.SetUps(p.Tools, p.plan.Kit.Moved, run, "", func(kit.Step) string {
		return "Tell the app of its new place"
	})...)
	if p.plan.copy {
		list = append(list, step.SetUps(p.Tools, p.plan.Kit.Copied, run, "", func(kit.Step) string {
			return "Keep the copy quiet"
		})...)
	}
	checked := &step.CheckSite{Tools: p.Tools, Unsure: p.plan.source == nil, Before: p.plan.From.CheckedAt, Guard: p.guard}
	arrival, err := work.Arrival(p.Tools, p.plan.Plan, path.Join(stage, backup.Files), sent, checked,
		p.outside(stage)...)
	if err != nil {
		return job.List{}, nil, err
	}
	if p.closed != nil {
		arrival = append(
			arrival,
			&step.Swap{Tools: p.closed.Tools, Account: p.plan.From.Account, Label: "Leave the old place",
				List: func(context.Context) ([]files.Move, error) { return p.closed.Departures(), nil }},
		)
	}
	record := &step.RecordSite{Tools: p.Tools, Address: address, SetAside: p.plan.Changes.SetAside, As: p.recordAs,
		Before: p.plan.instead()}
	return job.List{Steps: append(list, arrival...), Commit: record, Finish: p.finish()}, func() {
		if run.Data != nil {
			_ = run.Data.Close()
		}
		if p.temporary != "" {
			_ = os.Remove(p.temporary)
		}
	}, nil
}

// take makes the steps that back the source up into a file of this machine;
// none where the content is a backup already.
func (p *placing) take(ctx context.Context) ([]job.Step, error) {
	source := p.plan.source
	if source == nil {
		return nil, nil
	}
	file, err := p.Book.Home.Temporary()
	if err != nil {
		return nil, err
	}
	p.temporary = file.Name()
	if err := errors.Join(file.Close(), os.Remove(p.temporary)); err != nil {
		return nil, err
	}
	there := p.For(source.In, source.Of)
	there.Count = func(n, of int64, unit string) { p.Count(n, of, unit) }
	made := &step.BackedUp{MadeAt: p.Now().UTC()}
	held := step.ClaimOf(there, source.Address, &p.plan.From)
	kept := &step.BackUp{Tools: there, Record: p.plan.From, Made: made, Kept: step.Kept{File: p.temporary,
		Depot: step.Here}}
	p.kept = kept
	steps := []job.Step{held}
	if p.plan.Move {
		whole, err := remove.Whole(ctx, p.desk, source)
		if err != nil {
			return nil, err
		}
		p.leaves = whole
		p.closed, _ = whole.Closing(there)
		p.closed.Coming = p.plan.Place.Folder
		if p.plan.request.Redirect {
			others, err := p.Book.Foreign(ctx, source.Of)
			if err != nil {
				return nil, err
			}
			if p.leads, err = step.LeadsFrom(ctx, there, source.Site, p.plan.Place.URL, others); err != nil {
				return nil, err
			}
		}
		steps = append(steps, &step.FuncStep{Phase: step.Phase{Of: job.StageData}, Label: "Look at the database",
			Work: func(ctx context.Context) (err error) {
				p.before, err = p.marks(ctx)
				return err
			}})
	}
	steps = append(steps, kept,
		&step.FuncStep{Phase: step.Phase{Of: job.StageBackingUp}, Label: "Read it again",
			Work: func(ctx context.Context) (err error) {
				opener := func() (io.ReadCloser, error) { return os.Open(p.temporary) }
				if p.content, err = backup.Open(ctx, opener, nil); err != nil {
					return err
				}
				if p.plan.Move {
					p.between, err = p.marks(ctx)
				}
				return err
			}})
	if !p.plan.Move { // else the place is held until all of it is gone
		steps = append(steps, &step.Unclaim{Tools: there, Marker: held.Marker})
	}
	return steps, nil
}

// fill makes the steps that bring the content into a stage and the database. A
// move first brings all while the old place is open, and then what has changed
// since it is closed: nothing is written that is in neither place.
func (p *placing) fill(ctx context.Context, stage string) ([]job.Step, error) {
	c := p.plan.content
	var err error
	if p.change, err = p.Book.Rewriting(ctx, &c.Carried, p.Site); err != nil {
		return nil, err
	}
	list := []job.Step{&step.UnpackBackup{Tools: p.Tools, Stage: stage, From: func() *backup.Backup { return p.content }}}
	if p.plan.Data != nil {
		p.load = &step.LoadData{Tools: p.Tools, Label: "Load the database", Data: step.DataOf(p.Site, p.plan.Address()),
			Options: database.ScriptOptions{From: renamed(p.plan.From.Database.Tables, p.plan.Data.Tables),
				To: p.plan.Data.Tables},
			Script: func(ctx context.Context) (io.ReadCloser, error) {
				return c.Carried.Script(ctx, p.content, p.plan.Kit.Kit, p.change, p.Result.Left), nil
			}}
		list = append(list, p.load)
	}
	if p.plan.Move {
		if p.guard, err = step.GuardOf(p.Tools); err != nil {
			return nil, err
		}
		list = append(list, p.guard.Look(path.Join(stage, backup.Files)), p.closed, &step.FuncStep{
			Phase: step.Phase{Of: job.StagePlacing}, Label: "Take over what was written since",
			Work: func(ctx context.Context) error {
				if err := p.kept.CatchUp(ctx, p.Tools, stage, p.closed); err != nil {
					return err
				}
				return p.catchUpData(ctx)
			}})
	}
	list = append(list, &step.FuncStep{Label: "Write the configuration", Work: func(ctx context.Context) error {
		return p.CarryToPlace(ctx, path.Join(stage, backup.Files), path.Join(stage, backup.Outside), c.Before, p.change)
	}})
	if c.Foreign {
		list = append(list, &step.SetPassword{Tools: p.Tools, Folder: path.Join(stage, backup.Files)})
	}
	return list, nil
}

// outside makes the step that puts the files outside of the web in place.
func (p *placing) outside(stage string) []job.Step {
	folder := p.plan.Place.DataFolder
	if folder == "" {
		return nil
	}
	return []job.Step{&step.Swap{Tools: p.Tools, Label: "Put the files outside of the web in place",
		List: func(ctx context.Context) ([]files.Move, error) {
			return files.Arriving(ctx, p.In.Files, path.Join(stage, backup.Outside), folder, nil)
		}}}
}

// finish makes what is left when the site is recorded: with a move the old place
// is taken away.
func (p *placing) finish() []job.PostCommit {
	var out []job.PostCommit
	if p.plan.Move {
		old := p.leaves.End(p.Tools)
		old.Paths = append(old.Paths, path.Dir(p.closed.ParkedDir))
		old.Moved, old.Leads = p.plan.Place.URL, p.leads
		if p.plan.From.Account == p.plan.Account {
			old.Backups = p.Store().Backups(p.plan.Address())
		}
		out = append(out, old)
	}
	if p.temporary != "" {
		out = append(out, &step.DropHere{Name: p.temporary})
	}
	return append(out, step.TidyUp(p.Tools, p.plan.Address(), ""))
}

// recordAs notes where the site comes from.
func (p *placing) recordAs(x *ledger.Site) {
	from := p.plan.From
	switch {
	case p.plan.copy:
		x.CopyOf = from.Address
	case p.plan.Move:
		x.InstalledAt, x.CopyOf, x.Adopted, x.LastBackupAt = from.InstalledAt, from.CopyOf, from.Adopted, from.LastBackupAt
	}
	x.LastJob, x.Licence, x.Mine, x.Labels = x.Job, from.Licence, from.Mine, from.Labels
}

// renamed is the prefix to replace, "" when it stays.
func renamed(from, to string) string {
	if from == to || to == "" {
		return ""
	}
	return from
}
