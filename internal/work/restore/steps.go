package restore

import (
	"context"
	"io"
	"path"

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
}

// list gives the steps.
func (r *restoring) list(ctx context.Context) (job.List, error) {
	h, c := r.held, r.content
	stage := r.Store().Stage(r.Job)
	list := []job.Step{step.ClaimOf(r.Tools, h.Address, &h.Site)}
	if !r.request.NoBackup {
		r.done.Backup = &step.BackedUp{}
		kept, err := step.BackUpOf(r.Tools.For(r.In, h.Of), h.Site, "", nil, r.done.Backup)
		if err != nil {
			return job.List{}, err
		}
		list = append(list, kept)
	}
	list = append(list, &step.UnpackBackup{Tools: r.Tools, Stage: stage, From: func() *format.Backup { return c.Backup }},
		&step.Prepared{Label: "Write the configuration", Work: func(ctx context.Context) error {
			return r.CarryConfig(ctx, path.Join(stage, format.Files), c.Before)
		}})
	data, err := r.data(ctx)
	if err != nil {
		return job.List{}, err
	}
	list = append(list, data...)
	list = append(list, step.SecretsOf(r.Tools),
		&step.Swap{Tools: r.Tools, Label: "Put the files in place", List: func(ctx context.Context) ([]files.Move, error) {
			return r.exchange(ctx, stage)
		}},
		&step.CheckSite{Tools: r.Tools})
	return job.List{Steps: list, Settle: step.Saved(r.Tools, h.Site, r.record),
		Finish: []job.Finisher{step.DropReplaced(r.Tools, "Take away what was replaced"),
			step.TidyUp(r.Tools, h.Address, "")}}, nil
}

// data makes the steps that load the database; those first that make it again
// where somebody took it away.
func (r *restoring) data(ctx context.Context) ([]job.Step, error) {
	h, c := r.held, r.content
	if h.Database == nil {
		return nil, nil
	}
	change, err := r.Book.Rewriting(ctx, &c.Carried, r.Site.Place.URL)
	if err != nil {
		return nil, err
	}
	list, err := step.LostData(ctx, r.Tools)
	if err != nil {
		return nil, err
	}
	at := step.DataOf(r.Site, h.Address)
	return append(list, step.KeptData(r.Tools, at),
		&step.LoadData{Tools: r.Tools, Label: "Load the database", Data: at,
			Script: func(ctx context.Context) (io.ReadCloser, error) {
				return c.Carried.Script(ctx, c.Backup, r.Site.Kit.Kit, change), nil
			}}), nil
}

// record notes what the site has become.
func (r *restoring) record(x *ledger.Site) {
	*x = r.after
	x.UpdatedAt, x.LastJob, x.Health = r.Now().UTC(), r.Job, "good"
	if r.done.Backup != nil {
		x.LastBackupAt = &r.done.Backup.MadeAt
	}
}

// exchange lists the moves that take a site's files away and bring those of a
// stage in.
func (r *restoring) exchange(ctx context.Context, stage string) ([]files.Move, error) {
	others, err := r.Book.Foreign(ctx, r.Site)
	if err != nil {
		return nil, err
	}
	parts := [][2]string{{format.Files, r.held.Folder}}
	if r.held.DataFolder != "" {
		parts = append(parts, [2]string{format.Outside, r.held.DataFolder})
	}
	var out []files.Move
	for _, part := range parts {
		now, err := files.Movable(ctx, r.In.Files, part[1], others)
		if err != nil {
			return nil, err
		}
		out = append(out, files.Leaving(now, part[1], path.Join(r.Store().Aside(r.Job), part[0]))...)
	}
	for _, part := range parts {
		come, err := files.Arriving(ctx, r.In.Files, path.Join(stage, part[0]), part[1], others)
		if err != nil {
			return nil, err
		}
		out = append(out, come...)
	}
	return out, nil
}
