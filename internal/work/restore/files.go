package restore

import (
	"context"
	"io"
	"path"
	"slices"

	"tivset/internal/app/archive"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	format "tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/step"
	"tivset/internal/work"
)

// File is one that a backup has.
type File struct {
	Name  string `json:"name"` // from the site's folder
	Bytes int64  `json:"bytes"`
}

// Files lists the files of the backup that a request means, and says which backup that is.
func Files(ctx context.Context, d *work.Service, r Request) (from string, all []File, err error) {
	r.Files = nil
	p, err := Look(ctx, d, r)
	if err != nil {
		return "", nil, err
	}
	defer p.Close()
	all, err = listed(ctx, p.open)
	return p.From, all, err
}

func listed(ctx context.Context, o *opened) ([]File, error) {
	all := []File{}
	err := o.Backup.Part(format.Files)(ctx, func(e archive.Entry, _ io.Reader) error {
		if !e.Dir {
			all = append(all, File{e.Name, e.Size})
		}
		return nil
	})
	return all, err
}

// chosen gives the files of a backup that are named, or that are in folders which are.
func chosen(ctx context.Context, o *opened, names []string) ([]string, error) {
	all, err := listed(ctx, o)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, name := range names {
		before := len(out)
		for _, f := range all {
			if files.Within(f.Name, path.Clean(name)) && !slices.Contains(out, f.Name) {
				out = append(out, f.Name)
			}
		}
		known := slices.ContainsFunc(out, func(f string) bool { return files.Within(f, path.Clean(name)) })
		if len(out) == before && !known {
			return nil, fault.New(fault.Usage, "the backup has no such file or folder", name,
				"See what it has: "+fault.Call("restore", "SITE", "--list-files")+". Nothing was touched.")
		}
	}
	return out, nil
}

// someFiles brings files of a backup back to where the site is, which stays open.
func someFiles(ctx context.Context, d *work.Service, p *Plan) (*Done, error) {
	t, err := d.Begin(p.held.In, p.held.Of)
	if err != nil {
		return nil, err
	}
	done := &Done{From: p.From, Files: p.Files}
	err = d.CarryOut(ctx, t, work.Job{Way: Way(), Request: p.asked.Request,
		List: func(context.Context) (job.List, func(), error) {
			list, err := p.stepsForFiles(t, done)
			return list, nil, err
		}})
	if err != nil {
		return nil, err
	}
	done.Done, err = d.Done(ctx, t)
	return done, err
}

func (p *Plan) stepsForFiles(t *step.Tools, done *Done) (job.List, error) {
	x, stage := p.held.Site, t.Store().Stage(t.Job)
	list := []job.Step{step.ClaimOf(t, x.Address, &x)}
	if p.Keeps {
		done.Backup = &step.BackedUp{}
		kept, err := step.BackUpOf(t, x, step.BeforeRestore, "", nil, done.Backup)
		if err != nil {
			return job.List{}, err
		}
		list = append(list, kept)
	}
	list = append(list,
		&step.UnpackBackup{Tools: t, Stage: stage, Only: p.Files, From: func() *format.Backup { return p.open.Backup }},
		&step.Swap{Tools: t, Label: "Put the files in place", List: func(ctx context.Context) ([]files.Move, error) {
			return p.exchanged(ctx, t, path.Join(stage, format.Files))
		}},
		&step.CheckSite{Tools: t, Unsure: true})
	return job.List{Steps: list, Commit: step.Saved(t, x, func(x *ledger.Site) {
		x.UpdatedAt, x.LastJob = t.Now().UTC(), t.Job
		if done.Backup != nil {
			x.LastBackupAt = &done.Backup.MadeAt
		}
	}), Finish: []job.PostCommit{step.DropReplaced(t, "Take away what was replaced"), step.TidyUp(t, x.Address, "")}}, nil
}

// exchanged lists the moves that put files in the place of those that are there.
func (p *Plan) exchanged(ctx context.Context, t *step.Tools, staged string) (out []files.Move, err error) {
	for _, name := range p.Files {
		here := path.Join(p.held.Folder, name)
		there, err := files.Exists(ctx, t.In.Files, here)
		if err != nil {
			return nil, err
		}
		if there {
			out = append(out, files.Move{From: here, To: path.Join(t.Store().Aside(t.Job), "replaced", name)})
		}
		out = append(out, files.Move{From: path.Join(staged, name), To: here})
	}
	return out, nil
}
