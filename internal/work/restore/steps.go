package restore

import (
	"context"
	"io"
	"path"

	"tivset/internal/app/rewrite"
	"tivset/internal/check"
	"tivset/internal/hosting/files"
	format "tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/step"
	"tivset/internal/work"
	"tivset/internal/work/place"
)

// restoring is a restore in place that is carried out.
type restoring struct {
	*step.Tools
	held    *work.Held
	content *place.Content
	after   ledger.Site
	request Request
	done    *Done
	closed  *step.Close
	change  *rewrite.Address // what changes with the place since the backup
}

// list gives the steps: what takes long while the site is open, and the backup of
// what is there once it is closed, so that nothing is written that is in neither.
func (r *restoring) list(ctx context.Context) (job.List, error) {
	h, c := r.held, r.content
	stage := r.Store().Stage(r.Job)
	list := []job.Step{step.ClaimOf(r.Tools, h.Address, &h.Site)}
	whole := c.Only != format.OnlyData
	var err error
	if r.change, err = r.Book.Rewriting(ctx, &c.Carried, r.Site); err != nil {
		return job.List{}, err
	}
	if whole {
		list = append(list, r.unpack(stage)...)
	}
	guard, err := step.GuardOf(r.Tools)
	if err != nil {
		return job.List{}, err
	}
	r.closed = step.CloseOf(r.Tools, h.Of, h.Site)
	pages := r.closed.ParkedDir
	if whole {
		pages = path.Join(stage, format.Files)
		list = append(list, guard.Look(pages))
	} else {
		list = append(list, guard.Look(h.Folder))
	}
	r.closed.Parts = func(ctx context.Context) ([]string, error) {
		others, err := r.Book.Foreign(ctx, h.Of)
		if err != nil {
			return nil, err
		}
		return files.OwnedParts(ctx, r.In.Files, h.Folder, others)
	}
	list = append(list, r.closed)
	var kept *step.BackUp
	if !r.request.NoBackup {
		r.done.Backup = &step.BackedUp{}
		kept, err = step.BackUpOf(r.Tools.For(r.In, h.Of), h.Site, step.BeforeRestore, "", nil, r.done.Backup)
		if err != nil {
			return job.List{}, err
		}
		kept.Closed, kept.Rest = r.closed, true
	}
	lost, data, keeps, err := r.data(ctx)
	if err != nil {
		return job.List{}, err
	}
	if list = append(list, lost...); kept != nil {
		list = append(list, kept)
	}
	if kept != nil && keeps != nil && !h.Of.Server.InFiles() { // a file is kept as it is
		kept.KeepsFor(keeps)
	}
	list = append(list, data...)
	if c.Foreign {
		list = append(list, &step.SetPassword{Tools: r.Tools, Folder: pages})
	}
	if whole {
		list = append(list, step.SecretsOf(r.Tools))
	}
	list = append(list, guard.Cover(step.In(pages)), &step.Swap{Tools: r.Tools, Label: "Put the files in place",
		Reopens: r.closed, List: func(ctx context.Context) ([]files.Move, error) {
			if !whole {
				return r.closed.Opening(), nil
			}
			return r.exchange(ctx, stage)
		}},
		&step.CheckSite{Tools: r.Tools, Unsure: true, Known: h.Of.Password(), Guard: guard}, guard.Uncover())
	return job.List{Steps: list, Commit: step.Saved(r.Tools, h.Site, r.record),
		Finish: []job.PostCommit{step.DropReplaced(r.Tools, "Take away what was replaced"),
			step.TidyUp(r.Tools, h.Address, "")}}, nil
}

// unpack makes the steps that make the backup's files ready beside the site.
func (r *restoring) unpack(stage string) []job.Step {
	return []job.Step{
		&step.UnpackBackup{Tools: r.Tools, Stage: stage, From: func() *format.Backup { return r.content.Backup }},
		&step.FuncStep{Label: "Write the configuration", Work: func(ctx context.Context) error {
			return r.CarryToPlace(ctx, path.Join(stage, format.Files), path.Join(stage, format.Outside), r.content.Before,
				r.change)
		}}}
}

// data makes the steps that load the database, and those that make it again where somebody took it away, or its user:
// before what is left is backed up. Keeps is the one that keeps what is in it.
func (r *restoring) data(ctx context.Context) (lost, list []job.Step, keeps *step.KeepData, err error) {
	h, c := r.held, r.content
	if h.Database == nil {
		return nil, nil, nil, nil
	}
	lost, err = step.LostData(ctx, r.Tools)
	if err != nil {
		return nil, nil, nil, err
	}
	at := step.DataOf(r.Site, h.Address)
	keeps = step.KeptData(r.Tools, at)
	return lost, append(list, keeps,
		&step.LoadData{Tools: r.Tools, Label: "Load the database", Data: at,
			Script: func(ctx context.Context) (io.ReadCloser, error) {
				return c.Carried.Script(ctx, c.Backup, r.Site.Kit.Kit, r.change, r.Result.Left), nil
			}}), keeps, nil
}

// record notes what the site has become.
func (r *restoring) record(x *ledger.Site) {
	*x = r.after
	x.UpdatedAt, x.LastJob, x.Health = r.Now().UTC(), r.Job, check.Health(r.Result.Checks)
	if r.done.Backup != nil {
		x.LastBackupAt = &r.done.Backup.MadeAt
	}
}

// exchange lists the moves that put what is staged in the place of what the
// closed site had, and of what is outside of the web.
func (r *restoring) exchange(ctx context.Context, stage string) ([]files.Move, error) {
	others, err := r.Book.Foreign(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	var out []files.Move
	if outside := r.held.DataFolder; outside != "" {
		now, err := files.OwnedParts(ctx, r.In.Files, outside, others)
		if err != nil {
			return nil, err
		}
		out = files.Leaving(now, outside, path.Join(r.Store().Aside(r.Job), format.Outside))
		come, err := files.Arriving(ctx, r.In.Files, path.Join(stage, format.Outside), outside, others)
		if err != nil {
			return nil, err
		}
		out = append(out, come...)
	}
	come, err := files.Arriving(ctx, r.In.Files, path.Join(stage, format.Files), r.held.Folder, others)
	if err != nil {
		return nil, err
	}
	return append(out, r.closed.Reopened(come)...), nil
}
