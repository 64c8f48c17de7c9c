package step

import (
	"context"

	"tivset/internal/hosting/files"
	"tivset/internal/records/depot"
)

// Tidy takes away the stage, what was kept for the job's undo, and its mark.
type Tidy struct {
	*Tools `json:"-"`
	Stage  string   `json:"stage"`
	Marker string   `json:"marker"`
	Drop   []string `json:"drop"`  // folders that go when they are empty
	Board  string   `json:"board"` // the notice of a site that was closed
}

// TidyUp tidies up after the job at an address. Stage is where its stage is,
// "" for the usual place.
func TidyUp(t *Tools, address, stage string) *Tidy {
	store := t.Store()
	if stage == "" {
		stage = store.Stage(t.Job)
	}
	return &Tidy{Tools: t, Stage: stage, Marker: store.Mark(address), Board: boardOf(t),
		Drop: []string{store.Stages(), store.Asides(), store.Busy(), store.Top()}}
}

// Kind and Title implement job.PostCommit.
func (*Tidy) Kind() string  { return "tidy" }
func (*Tidy) Title() string { return "Tidy up" }

// Finish implements job.PostCommit.
func (t *Tidy) Finish(ctx context.Context) error {
	if err := t.discard(ctx, t.Stage); err != nil {
		return err
	}
	if err := t.dropBoard(ctx, t.Board); err != nil {
		return err
	}
	if err := t.discard(ctx, pagesOf(t.Tools)); err != nil {
		return err
	}
	if err := t.forgetKept(ctx); err != nil {
		return err
	}
	return t.In.DropMark(ctx, t.Marker, t.Job, t.Drop...)
}

// DropFiles takes away what a settled job needs no more.
type DropFiles struct {
	*Tools `json:"-"`
	Label  string   `json:"label"`
	Names  []string `json:"names"`
	Empty  []string `json:"empty"` // folders that go when they are empty
}

// DropReplaced takes away what the job moved out of the way.
func DropReplaced(t *Tools, label string) *DropFiles {
	return &DropFiles{Tools: t, Label: label, Names: []string{t.Store().Aside(t.Job)}}
}

// Kind and Title implement job.PostCommit.
func (*DropFiles) Kind() string    { return "drop-files" }
func (d *DropFiles) Title() string { return d.Label }

// Finish implements job.PostCommit.
func (d *DropFiles) Finish(ctx context.Context) error {
	for _, name := range d.Names {
		if err := d.discard(ctx, name); err != nil {
			return err
		}
	}
	return files.DropEmpty(ctx, d.In.Files, d.Empty...)
}

// DropHere takes a file of this machine away.
type DropHere struct {
	Name string `json:"name"`
}

// Kind and Title implement job.PostCommit.
func (*DropHere) Kind() string  { return "drop-here" }
func (*DropHere) Title() string { return "Tidy up here" }

// Finish implements job.PostCommit.
func (d *DropHere) Finish(ctx context.Context) error { return depot.Here().Remove(ctx, d.Name) }
