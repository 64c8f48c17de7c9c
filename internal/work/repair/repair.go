// Package repair is the way of a site back to its release's own files, after a
// backup: nothing of the set-up, and nobody else who can write them. What was
// added stays for the owner to judge.
package repair

import (
	"context"
	"errors"
	"path"
	"slices"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/app/release"
	"tivset/internal/check"
	"tivset/internal/hosting/files"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/step"
	"tivset/internal/work"
)

// Way is this way's line in the table.
func Way() work.Operation {
	return work.Operation{Name: "repair", Past: "repaired",
		Again: work.AgainWith(func(ctx context.Context, d *work.Service, word string) error {
			_, err := Repair(ctx, d, word)
			return err
		})}
}

// Done is what a repair came to.
type Done struct {
	work.Done
	Files  []string // that are the release's own again
	Taken  []string // that only the set-up needs, and that are gone
	Closed []string // that others on the machine could write or read
	Backup *step.BackedUp
}

// ErrNothing means that nothing of the site is to be repaired.
var ErrNothing = errors.New("the site's files are as the release has them, and nobody else can write them")

// damage is what is wrong with a site's files.
type damage struct {
	of    release.Content
	found release.Compared
	names []string // of files that are differ from the release
	taken []string // what only the set-up needs
	loose []site.InsecureMode
}

// Repair puts the release's own files back where they were changed or are gone,
// takes away what only the set-up needs, and keeps others on the machine out.
func Repair(ctx context.Context, d *work.Service, word string) (*Done, error) {
	h, err := d.Hold(ctx, word)
	if err != nil {
		return nil, err
	}
	defer h.Close()
	unsure := d.Ready(ctx, h)
	if ctx.Err() != nil {
		return nil, unsure
	}
	wrong, err := look(ctx, d, h)
	if err != nil {
		return nil, err
	}
	done := &Done{Files: wrong.names, Taken: wrong.taken, Closed: []string{}, Backup: &step.BackedUp{}}
	for _, l := range wrong.loose {
		done.Closed = append(done.Closed, strings.TrimPrefix(l.Name, h.Folder+"/"))
	}
	t, err := d.Begin(h.In, h.Of)
	if err != nil {
		return nil, err
	}
	err = d.CarryOut(ctx, t, work.Job{Way: Way(), Request: word, Undone: "The site is as it was.",
		List: func(context.Context) (job.List, func(), error) {
			list, err := steps(t, h, wrong, done, unsure != nil)
			return list, nil, err
		}})
	if err != nil {
		return nil, err
	}
	done.Done, err = d.Done(ctx, t)
	return done, err
}

// look finds what is wrong; ErrNothing when nothing is.
func look(ctx context.Context, d *work.Service, h *work.Held) (*damage, error) {
	out := &damage{taken: []string{}}
	var err error
	if out.of, err = h.Of.Content(ctx, d.Archives); err != nil {
		return nil, err
	}
	others, err := d.Book.Foreign(ctx, h.Of)
	if err != nil {
		return nil, err
	}
	folder := h.Of.FolderOf(h.In.Files, h.Entries, others)
	if folder.There, err = folder.All(ctx); err != nil {
		return nil, err
	}
	if out.found, err = release.Compare(ctx, folder, out.of, true, func(int64, int64, string) {}); err != nil {
		return nil, err
	}
	// What the owner vouched for stays, as long as it is what that was.
	if out.found.Changed, err = check.NotVouched(ctx, folder, h.In.Runtimes(), folder.There, h.Mine,
		out.found.Changed); err != nil {
		return nil, err
	}
	out.names = slices.Sorted(slices.Values(slices.Concat(out.found.Changed, out.found.Missing)))
	for _, name := range h.Of.SetUpOnly() {
		name = path.Clean(name)
		there, err := files.Exists(ctx, h.In.Files, path.Join(h.Folder, name))
		if err != nil {
			return nil, err
		}
		if there {
			out.taken = append(out.taken, name)
		}
	}
	loose, _ := h.Of.Loose(folder.There)
	for _, l := range loose { // what is put back has its mode, and what is taken away needs none
		name := strings.TrimPrefix(l.Name, h.Folder+"/")
		if !archive.Skipped(name, out.taken) && !slices.Contains(out.names, name) {
			out.loose = append(out.loose, l)
		}
	}
	if len(out.names)+len(out.taken)+len(out.loose) == 0 {
		return nil, ErrNothing
	}
	return out, nil
}

func steps(t *step.Tools, h *work.Held, wrong *damage, done *Done, unsure bool) (job.List, error) {
	kept, err := step.BackUpOf(t, h.Site, step.BeforeRepair, "", nil, done.Backup)
	if err != nil {
		return job.List{}, err
	}
	list := []job.Step{step.ClaimOf(t, h.Address, &h.Site), kept}
	if len(wrong.loose) > 0 {
		list = append(list, &step.SetModes{Tools: t, Modes: wrong.loose})
	}
	if len(wrong.taken) > 0 {
		list = append(list, &step.Swap{Tools: t, Phase: step.Phase{Of: job.StageSettingUp},
			Label: "Take away what only the set-up needs",
			List: func(context.Context) ([]files.Move, error) {
				var out []files.Move
				for _, name := range wrong.taken {
					out = append(out, files.Move{From: path.Join(h.Folder, name), To: path.Join(aside(t), name)})
				}
				return out, nil
			}})
	}
	var guard *step.Guard // of a site that is closed for it
	if len(wrong.names) > 0 {
		back, g, err := putBack(t, h, wrong)
		if err != nil {
			return job.List{}, err
		}
		list, guard = append(list, back...), g
	}
	list = append(list, &step.CheckSite{Tools: t, Unsure: unsure, Guard: guard})
	if guard != nil {
		list = append(list, guard.Uncover())
	}
	return job.List{Steps: list,
		Commit: step.Saved(t, h.Site, func(x *ledger.Site) {
			x.LastBackupAt, x.LastJob, x.Health = &done.Backup.MadeAt, t.Job, check.Health(t.Result.Checks)
			check.Removed(x, wrong.found.Changed, t.Now())
		}),
		Finish: []job.PostCommit{step.DropReplaced(t, "Take away what was replaced"), step.TidyUp(t, h.Address, "")}}, nil
}

func aside(t *step.Tools) string { return path.Join(t.Store().Aside(t.Job), "replaced") }

// putBack makes the steps that bring the release's own files back.
func putBack(t *step.Tools, h *work.Held, wrong *damage) ([]job.Step, *step.Guard, error) {
	stage, err := step.StageFor(t, false)
	if err != nil {
		return nil, nil, err
	}
	unpack := step.UnpackInto(t, stage, step.Archived{File: wrong.of.File, Files: wrong.of.Survey.Files})
	unpack.Settings = func(ctx context.Context, staged *step.Unpack) error { return staged.SetConstants(ctx) }
	closed := step.CloseOf(t, h.Of, h.Site)
	guard, err := step.GuardOf(t)
	if err != nil {
		return nil, nil, err
	}
	at := func(page string) string {
		if slices.Contains(wrong.names, page) {
			return path.Join(stage.Folder, page)
		}
		return path.Join(closed.ParkedDir, page)
	}
	return []job.Step{unpack, guard.Look(stage.Folder), guard.Look(h.Folder), closed, guard.Cover(at),
		&step.Swap{
			Tools:   t,
			Label:   "Put the release's own files back",
			Reopens: closed,
			List: func(context.Context) ([]files.Move, error) {
				back := moves(closed.ParkedDir, stage.Folder, aside(t), wrong.names, wrong.found)
				var came []string
				for _, m := range back {
					if files.Within(m.To, closed.ParkedDir) {
						came = append(came, m.To)
					}
				}
				return append(back, closed.Opening(came...)...), nil
			},
		}}, guard, nil
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
