package update

import (
	"cmp"
	"context"
	"path"
	"slices"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/app/kit"
	"tivset/internal/check"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/plan"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/step"
)

// updating is an update that is carried out.
type updating struct {
	*step.Tools
	plan   *Plan
	done   *Done
	closed *step.Close
	tried  bool // the new release was begun with, on a closed site
}

// list gives the steps of an update.
func (u *updating) list() (job.List, func(), error) {
	p, x := u.plan, u.plan.Site
	stage, err := step.StageFor(u.Tools, kit.ByForms(p.migration()))
	if err != nil {
		return job.List{}, nil, err
	}
	run, err := p.next.Runner(u.In, stage.Folder, stage.Base, u.Now())
	if err != nil {
		return job.List{}, nil, err
	}
	unpack := step.UnpackInto(u.Tools, stage, step.Archived{File: p.archive, Files: p.survey.Files})
	unpack.Settings = func(ctx context.Context, staged *step.Unpack) error {
		return u.takeConfig(ctx, x.Folder, staged.Stage)
	}
	list := []job.Step{step.ClaimOf(u.Tools, x.Address, &x)}
	if list, err = u.asksPHP(list); err != nil {
		return job.List{}, nil, err
	}
	guard, err := step.GuardOf(u.Tools)
	if err != nil {
		return job.List{}, nil, err
	}
	list = append(list, unpack, guard.Look(stage.Folder, p.kept()...))
	if p.Backup {
		u.done.Backup = &step.BackedUp{}
		kept, err := step.BackUpOf(u.Tools.For(u.In, p.source.Of), x, step.BeforeUpdateTo(p.To), "", nil, u.done.Backup)
		if err != nil {
			return job.List{}, nil, err
		}
		kept.Stays = true
		list = append(list, kept)
	}
	u.closed = step.CloseOf(u.Tools, p.source.Of, x)
	ahead, last := step.KeptFiles(u.Tools, u.written())
	if ahead != nil {
		list = append(list, ahead)
	}
	list = append(list, u.closed)
	if last != nil {
		list = append(list, last)
	}
	if x.Database != nil {
		list = append(list, step.KeptData(u.Tools, step.DataOf(p.next, x.Address)))
	}
	list = append(list, &step.FuncStep{Label: "Take over the configuration", Work: func(ctx context.Context) error {
		u.tried = true // from here on the release itself is what may fail
		return u.takeConfig(ctx, u.closed.ParkedDir, stage.Folder)
	}})
	list = append(list, step.SetUps(u.Tools, p.migration(), run, job.StageMigrating, migrationLabel)...)
	list = append(
		list,
		&step.FuncStep{Phase: step.Phase{Of: job.StageSettingUp}, Label: "Leave out what only the set-up needs",
			Work: func(ctx context.Context) error {
				return u.withoutSetUp(ctx, stage.Folder)
			}},
		guard.Cover(step.In(stage.Folder)),
		&step.Swap{
			Tools:   u.Tools,
			Label:   "Put the new release in place",
			Runs:    true,
			Reopens: u.closed,
			List: func(ctx context.Context) ([]files.Move,
				error) {
				return u.moves(ctx, stage.Folder)
			},
		},
	)
	awaited, err := step.Awaited(u.Tools)
	if err != nil {
		return job.List{}, nil, err
	}
	if awaited != nil {
		list = append(list, awaited)
	}
	list = append(list, &step.PutIndexPages{Tools: u.Tools},
		&step.CheckSite{Tools: u.Tools, Lenient: !p.PutBack, Guard: guard}, guard.Uncover())
	return job.List{Steps: list, Commit: &step.SaveSite{Tools: u.Tools, Before: x, After: u.after},
			Finish: []job.PostCommit{
				step.DropReplaced(u.Tools, "Take away the old release"),
				step.TidyUp(u.Tools, x.Address, cmp.Or(stage.Veil, stage.Folder))}},
		func() {
			if run.Data != nil {
				_ = run.Data.Close()
			}
		}, nil
}

// asksPHP adds the look at the PHP that serves the site, where the new release
// needs one: it is asked before anything is made.
func (u *updating) asksPHP(list []job.Step) ([]job.Step, error) {
	p := u.plan
	if p.next.Of.Needs.PHP == nil {
		return list, nil
	}
	sent, err := step.AskPHP(u.Tools)
	if err != nil || sent == nil {
		return list, err
	}
	sent.Only = true
	sent.Functions, sent.Settings = plan.LookedFor(p.next.Of)
	sent.Fit = func(found helperpage.Found) ([]string, error) { return plan.FitPHP(p.next, p.survey.Bytes, found) }
	return append(list, sent), nil
}

// written lists where the app writes.
func (u *updating) written() []step.Written {
	var out []step.Written
	for _, name := range u.plan.kept() {
		out = append(out, step.Written{Open: path.Join(u.plan.Site.Folder, name), Shut: path.Join(u.closed.ParkedDir, name)})
	}
	if outside := u.plan.Site.DataFolder; outside != "" {
		out = append(out, step.Written{Open: outside, Shut: outside})
	}
	return out
}

// takeConfig brings the site's configuration into the stage, with what the new
// release has otherwise.
func (u *updating) takeConfig(ctx context.Context, from, staged string) error {
	if err := u.CopyConfig(ctx, from, staged, false); err != nil {
		return err
	}
	before, err := u.plan.source.Of.Values(u.Now())
	if err != nil {
		return err
	}
	if err := u.CarryConfig(ctx, staged, before); err != nil {
		return err
	}
	return u.PHPSettings(ctx, staged)
}

// withoutSetUp takes from the stage what the app's set-up takes away.
func (u *updating) withoutSetUp(ctx context.Context, staged string) error {
	for _, name := range u.Site.SetUpOnly() {
		if err := files.RemoveAll(ctx, u.In.Files, path.Join(staged, path.Clean(name))); err != nil {
			return err
		}
	}
	return nil
}

// moves lists the moves that put a staged release in the place of the one that
// was closed: what is kept and what the owner added comes from there into the
// stage; and the stage goes in.
func (u *updating) moves(ctx context.Context, staged string) ([]files.Move, error) {
	folder, old, aside := u.plan.Site.Folder, u.closed.ParkedDir, u.Store().Aside(u.Job)
	others, err := u.Book.Foreign(ctx, u.Site)
	if err != nil {
		return nil, err
	}
	come, err := files.Arriving(ctx, u.In.Files, staged, folder, others)
	if err != nil {
		return nil, err
	}
	var out []files.Move
	for _, name := range u.carried() {
		there, err := files.Exists(ctx, u.In.Files, path.Join(old, name))
		if err != nil {
			return nil, err
		}
		if !there {
			continue
		}
		fresh, err := files.Exists(ctx, u.In.Files, path.Join(staged, name))
		if err != nil {
			return nil, err
		}
		if fresh {
			out = append(out, files.Move{From: path.Join(staged, name), To: path.Join(aside, "fresh", name)})
			come = slices.DeleteFunc(come, func(m files.Move) bool { return m.From == path.Join(staged, name) })
		}
		out = append(out, files.Move{From: path.Join(old, name), To: path.Join(staged, name)})
		come = withFirst(come, staged, folder, name)
	}
	return append(out, u.closed.Reopened(come)...), nil
}

// withFirst has the first part of a carried name's path arrive too, where
// nothing of it did before.
func withFirst(come []files.Move, staged, folder, name string) []files.Move {
	first, _, _ := strings.Cut(name, "/")
	whole := files.Move{From: path.Join(staged, first), To: path.Join(folder, first)}
	if slices.ContainsFunc(come, func(m files.Move) bool { return files.Within(m.From, whole.From) }) {
		return come
	}
	return append(come, whole)
}

// carried lists what goes along from the old release to the new: whole parts
// first, and of the rest the files that were added.
func (u *updating) carried() []string {
	kept := u.plan.kept()
	out := slices.Clone(kept)
	for _, name := range u.plan.Carried {
		if !archive.Skipped(name, kept) {
			out = append(out, name)
		}
	}
	for _, m := range u.closed.Moves { // what stands beside the app's own entries
		name := m.To[len(u.closed.ParkedDir)+1:]
		if name == kit.UserINI && len(u.Site.Kit.PHPSettings) > 0 {
			continue // brought already, with what the new release asks for
		}
		if first, _, _ := strings.Cut(name, "/"); !slices.Contains(u.plan.Site.Entries, first) {
			out = append(out, name)
		}
	}
	for i := range out {
		out[i] = path.Clean(out[i])
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// after is the site's record with its new release.
func (u *updating) after(ctx context.Context) (ledger.Site, error) {
	x := u.plan.Site
	x.Archive = u.plan.next.Archive
	x.Release, x.UpdatedAt, x.LastJob, x.Tried = u.plan.To, u.Now().UTC(), u.Job, nil
	x.Health = check.Health(u.Result.Checks)
	if u.done.Backup != nil {
		x.LastBackupAt = &u.done.Backup.MadeAt
	}
	inside, err := u.In.Files.List(ctx, x.Folder)
	if err != nil {
		return x, err
	}
	x.Entries = nil
	for _, i := range inside {
		if slices.Contains(u.plan.Site.Entries, i.Name) || slices.Contains(u.plan.survey.Entries, i.Name) ||
			i.Name == kit.UserINI && len(u.Site.Kit.PHPSettings) > 0 {
			x.Entries = append(x.Entries, i.Name)
		}
	}
	others, err := u.Book.Foreign(ctx, u.Site)
	if err != nil {
		return x, err
	}
	x.Files, x.Bytes, err = files.Count(ctx, u.In.Files, x.Folder, others.Has)
	return x, err
}
