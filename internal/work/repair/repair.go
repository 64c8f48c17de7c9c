// Package repair is the way of a site back to its release's own files, after a
// backup. What was added stays for the owner to judge.
package repair

import (
	"context"
	"path"
	"slices"

	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/step"
	"tivset/internal/work"
)

// Way is this way's line in the table.
func Way() work.Way {
	return work.Way{Name: "repair", Past: "repaired",
		Again: work.AgainWith(func(ctx context.Context, d *work.Desk, word string) error {
			_, err := Repair(ctx, d, word)
			return err
		})}
}

// Done is what a repair came to.
type Done struct {
	work.Done
	Files  []string // that are the release's own again
	Backup *step.BackedUp
}

// Repair puts the release's own files back where they were changed or are gone.
func Repair(ctx context.Context, d *work.Desk, word string) (*Done, error) {
	h, err := d.Hold(ctx, word)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	unsure := d.Ready(ctx, h)
	if ctx.Err() != nil {
		return nil, unsure
	}
	of, err := h.Of.Content(ctx, d.Archives)
	if err != nil {
		return nil, err
	}
	others, err := d.Book.Foreign(ctx, h.Of)
	if err != nil {
		return nil, err
	}
	found, err := release.Compare(ctx, h.Of.FolderOf(h.In.Files, h.Entries, others), of, true,
		func(int64, int64, string) {})
	if err != nil {
		return nil, err
	}
	done := &Done{Files: slices.Sorted(slices.Values(slices.Concat(found.Changed, found.Missing))),
		Backup: &step.BackedUp{}}
	if len(done.Files) == 0 {
		return nil, fault.New(fault.Usage, "the files are as the release has them", h.Address, "Nothing is to be repaired.")
	}
	t, err := d.Begin(h.In, h.Of)
	if err != nil {
		return nil, err
	}
	err = d.CarryOut(ctx, t, work.Job{Way: Way(), Request: word, Undone: "The site is as it was.",
		List: func(context.Context) (job.List, func(), error) {
			list, err := steps(t, h, of, found, done, unsure != nil)
			return list, nil, err
		}})
	if err != nil {
		return nil, err
	}
	done.Done, err = d.Done(ctx, t)
	return done, err
}

func steps(t *step.Tools, h *work.Held, of release.Content, found release.Compared, done *Done,
	unsure bool) (job.List, error) {
	kept, err := step.BackUpOf(t, h.Site, "", nil, done.Backup)
	if err != nil {
		return job.List{}, err
	}
	stage, err := step.StageFor(t, false)
	if err != nil {
		return job.List{}, err
	}
	unpack := step.UnpackInto(t, stage, step.Archived{File: of.File, Files: of.Survey.Files})
	unpack.Settings = func(ctx context.Context, staged *step.Unpack) error { return staged.SetConstants(ctx) }
	closed := step.CloseOf(t, h.Of, h.Site)
	return job.List{Steps: []job.Step{step.ClaimOf(t, h.Address, &h.Site), kept, unpack, closed,
		&step.Swap{
			Tools:   t,
			Label:   "Put the release's own files back",
			Reopens: closed,
			List: func(context.Context) ([]files.Move, error) {
				back := moves(closed.Shut, stage.Folder, path.Join(t.Store().Aside(t.Job), "replaced"), done.Files, found)
				var came []string
				for _, m := range back {
					if files.Within(m.To, closed.Shut) {
						came = append(came, m.To)
					}
				}
				return append(back, closed.Opening(came...)...), nil
			},
		},
		&step.CheckSite{Tools: t, Unsure: unsure}},
		Settle: step.Saved(t, h.Site, func(x *ledger.Site) {
			x.LastBackupAt, x.LastJob, x.Health = &done.Backup.MadeAt, t.Job, "good"
		}),
		Finish: []job.Finisher{step.DropReplaced(t, "Take away what was replaced"), step.TidyUp(t, h.Address, "")}}, nil
}

// moves lists the moves that bring the release's own files back.
func moves(folder, stage, aside string, names []string, found release.Compared) []files.Move {
	var out []files.Move
	for _, name := range names {
		if slices.Contains(found.Changed, name) {
			out = append(out, files.Move{From: path.Join(folder, name), To: path.Join(aside, name)})
		}
		out = append(out, files.Move{From: path.Join(stage, name), To: path.Join(folder, name)})
	}
	return out
}
