package site

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/app/kit"
	"tivset/internal/hosting/files"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
)

// updateSteps lists the steps of an update.
func (e *env) updateSteps(p *UpdatePlan, done *Updated) (steps, error) {
	x := p.Site
	staged, err := e.stageOf(p)
	if err != nil {
		return steps{}, err
	}
	run, err := e.runner(context.Background(), staged.folder, staged.base)
	if err != nil {
		return steps{}, err
	}
	claimed, mark := e.claimed(&x)
	list := []job.Step{claimed,
		&unpack{env: e, Stage: staged.folder, Top: staged.top, Veil: staged.veil, address: staged.address,
			settings: func(ctx context.Context) error { return e.takeConfig(ctx, p, staged.folder) }}}
	if p.Backup {
		done.Backup = &BackedUp{}
		step, err := e.backUp(p.source, "", nil, done.Backup)
		if err != nil {
			return steps{}, err
		}
		list = append(list, step)
	}
	if x.Database != nil {
		list = append(list, &keepData{env: e, Data: e.dataOf(x.Database, x.Address), File: e.keptData(e.job)})
	}
	for i, s := range p.migration() {
		list = append(list, &setUp{env: e, N: i, Label: migrationLabel(s), step: s, run: run})
	}
	list = append(list,
		&prepared{env: e, Label: "Leave out what only the set-up needs", do: func(ctx context.Context) error { return e.withoutSetUp(ctx, p, staged.folder) }},
		&swap{env: e, Label: "Put the new release in place", list: func(ctx context.Context) ([]move, error) { return e.updateMoves(ctx, p, staged.folder) }},
		&checkSite{env: e, lenient: !p.PutBack},
		&saveSite{env: e, Before: x, after: func(ctx context.Context) (ledger.Site, error) { return e.afterUpdate(ctx, p, done) }},
		&dropFiles{env: e, Label: "Take away the old release", Names: []string{e.asideTop()}},
		e.tidyUp(mark))
	if staged.veil != "" {
		list = append(list[:len(list)-1], &dropFiles{env: e, Label: "Tidy up", Names: []string{cmp.Or(staged.veil, staged.folder)}}, list[len(list)-1])
	}
	return steps{list, func() {
		if run.Data != nil {
			_ = run.Data.Close()
		}
	}}, nil
}

// migrationLabel words a step of an update.
func migrationLabel(s kit.Step) string {
	if s.RunSQL != "" || s.SQL != nil {
		return "Bring the database to the new release"
	}
	return label(s)
}

// takeConfig brings the site's configuration into the stage, with what the new
// release has otherwise.
func (e *env) takeConfig(ctx context.Context, p *UpdatePlan, staged string) error {
	if err := e.copyConfig(ctx, p.plan, p.Site.Folder, staged, false); err != nil {
		return err
	}
	before, err := p.old.values(e.Now())
	if err != nil {
		return err
	}
	return (&carryConfig{e, staged, before}).do(ctx)
}

// copyConfig copies a site's configuration files from one folder to another;
// also those that are the release's own, edited, when the whole is wanted.
func (e *env) copyConfig(ctx context.Context, p *Plan, folder, to string, whole bool) error {
	for _, c := range p.kit.Config {
		if len(c.Constant) > 0 && !whole {
			continue // a file of the release
		}
		from := path.Join(folder, c.Path)
		info, err := e.files.Stat(ctx, from)
		if errors.Is(err, fs.ErrNotExist) {
			continue // carryConfig says what is to be said
		}
		if err != nil {
			return err
		}
		text, err := files.Read(ctx, e.files, from, 4<<20)
		if err != nil {
			return err
		}
		name := path.Join(to, c.Path)
		if err := dropFile(ctx, e.files, name); err != nil {
			return err
		}
		if _, err := files.MkdirAll(ctx, e.files, path.Dir(name), 0o755); err != nil {
			return err
		}
		if err := files.Write(ctx, e.files, name, text, info.Mode.Perm()); err != nil {
			return err
		}
	}
	return nil
}

// withoutSetUp takes from the stage what the app's set-up takes away.
func (e *env) withoutSetUp(ctx context.Context, p *UpdatePlan, staged string) error {
	for _, s := range p.plan.kit.Setup {
		if !holds(s.When, p.plan.answers) {
			continue
		}
		for _, name := range s.Remove {
			if err := files.RemoveAll(ctx, e.files, path.Join(staged, path.Clean(name))); err != nil {
				return err
			}
		}
	}
	return nil
}

// updateMoves lists the moves that put a staged release in the place of the one
// that is there: the old one goes aside; what is kept and what the owner added
// comes from there into the stage; and the stage goes in.
func (e *env) updateMoves(ctx context.Context, p *UpdatePlan, staged string) ([]move, error) {
	others, err := e.foreign(ctx, p.plan)
	if err != nil {
		return nil, err
	}
	old := path.Join(e.asideTop(), "old")
	var out []move
	for _, name := range p.Site.Entries {
		parts, err := e.leavingEntry(ctx, path.Join(p.Site.Folder, name), others)
		if err != nil {
			return nil, err
		}
		out = append(out, leaving(parts, p.Site.Folder, old)...)
	}
	come, err := arriving(ctx, e.files, staged, p.Site.Folder, others)
	if err != nil {
		return nil, err
	}
	for _, name := range e.carried(p) {
		there, err := files.Exists(ctx, e.files, path.Join(p.Site.Folder, name))
		if err != nil {
			return nil, err
		}
		if !there {
			continue
		}
		fresh, err := files.Exists(ctx, e.files, path.Join(staged, name))
		if err != nil {
			return nil, err
		}
		if fresh {
			out = append(out, move{path.Join(staged, name), path.Join(e.asideTop(), "fresh", name)})
			come = slices.DeleteFunc(come, func(m move) bool { return m.From == path.Join(staged, name) })
		}
		out = append(out, move{path.Join(old, name), path.Join(staged, name)})
		first, _, _ := strings.Cut(name, "/")
		if whole := (move{path.Join(staged, first), path.Join(p.Site.Folder, first)}); !slices.ContainsFunc(come, func(m move) bool { return strings.HasPrefix(m.From+"/", whole.From+"/") }) {
			come = append(come, whole)
		}
	}
	return append(out, come...), nil
}

// leavingEntry lists what of an entry goes; nothing when it is not there.
func (e *env) leavingEntry(ctx context.Context, full string, others foreign) ([]string, error) {
	there, err := files.Exists(ctx, e.files, full)
	if err != nil || !there {
		return nil, err
	}
	return besides(ctx, e.files, full, others)
}

// carried lists what goes along from the old release to the new: whole parts
// first, and of the rest the files that were added.
func (e *env) carried(p *UpdatePlan) []string {
	kept := p.kept()
	out := slices.Clone(kept)
	for _, name := range p.Carried {
		if !archive.Skipped(name, kept) {
			out = append(out, name)
		}
	}
	for i := range out {
		out[i] = path.Clean(out[i])
	}
	return out
}

// afterUpdate is the site's record with its new release.
func (e *env) afterUpdate(ctx context.Context, p *UpdatePlan, done *Updated) (ledger.Site, error) {
	x := p.Site
	x.Release, x.UpdatedAt, x.LastJob, x.Health = p.To, e.Now().UTC(), e.job, "good"
	if slices.ContainsFunc(e.checks, func(c Checked) bool { return !c.OK }) {
		x.Health = "bad"
	}
	if done.Backup != nil {
		x.LastBackupAt = &done.Backup.MadeAt
	}
	entries, err := e.entriesAfter(ctx, p)
	if err != nil {
		return x, err
	}
	x.Entries = entries
	others, err := e.foreign(ctx, p.plan)
	if err != nil {
		return x, err
	}
	x.Files, x.Bytes, err = files.Count(ctx, e.files, x.Folder, others.has)
	return x, err
}

// entriesAfter lists what in the site's folder is the site's now.
func (e *env) entriesAfter(ctx context.Context, p *UpdatePlan) ([]string, error) {
	inside, err := e.files.List(ctx, p.Site.Folder)
	var out []string
	for _, i := range inside {
		if contains(p.Site.Entries, i.Name) || contains(p.plan.survey.Entries, i.Name) {
			out = append(out, i.Name)
		}
	}
	return out, err
}
