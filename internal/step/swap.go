package step

import (
	"context"
	"path"

	"tivset/internal/hosting/files"
)

// Swap moves files and folders, one after the other, each in one call: what is
// live is gone for as long as that takes, and no longer. What it makes room for
// is moved too, so that all of it can be moved back.
type Swap struct {
	*Tools `json:"-"`
	Phase
	Label   string       `json:"label"`
	Account string       `json:"account,omitempty"` // where that is, "" for the job's own
	Moves   []files.Move `json:"moves"`
	Made    []string     `json:"made"` // folders made for them, innermost first

	// With a site that is opened again: the address of the notice's page that
	// empties PHP's code cache, which leaves last, and how many moves, the first,
	// are taken back only once that page was asked.
	Flusher string `json:"flusher,omitempty"`
	Hold    int    `json:"hold,omitempty"`

	// What comes is another release, whose code may change the data.
	Runs bool `json:"runs,omitempty"`

	Reopens *Close                                      `json:"-"` // the site that it opens, nil for none
	List    func(context.Context) ([]files.Move, error) `json:"-"`
}

// Kind and Title implement job.Step.
func (*Swap) Kind() string    { return "swap" }
func (s *Swap) Title() string { return s.Label }

// Changes implements job.Mutator.
func (s *Swap) Changes() bool { return s.Runs }

// Prepare lists what will move, and which folders have to be made for it.
func (s *Swap) Prepare(ctx context.Context) error {
	var err error
	if s.Moves, err = s.List(ctx); err != nil {
		return err
	}
	s.Made = nil
	if s.Reopens != nil {
		s.Flusher, s.Hold = s.Reopens.held(s.Moves)
	}
	seen := map[string]bool{}
	for _, m := range s.Moves {
		if err := s.missing(ctx, path.Dir(m.To), seen); err != nil {
			return err
		}
	}
	return nil
}

// missing notes a folder, and those above it, that are not there.
func (s *Swap) missing(ctx context.Context, dir string, seen map[string]bool) error {
	if dir == "." || seen[dir] {
		return nil
	}
	seen[dir] = true
	there, err := files.Exists(ctx, s.In.Files, dir)
	if err != nil || there {
		return err
	}
	if err := s.missing(ctx, path.Dir(dir), seen); err != nil {
		return err
	}
	s.Made = append([]string{dir}, s.Made...)
	return nil
}

// Do makes the folders and moves.
func (s *Swap) Do(ctx context.Context) error {
	for i := len(s.Made) - 1; i >= 0; i-- {
		if _, err := files.MkdirAll(ctx, s.In.Files, s.Made[i], 0o755); err != nil {
			return err
		}
	}
	// Begun, it is done as a whole: an interrupt waits.
	ctx = context.WithoutCancel(ctx)
	for n, m := range s.Moves {
		if s.Flusher != "" && n == len(s.Moves)-1 {
			s.flush(ctx, s.Flusher)
		}
		if err := s.In.Files.Rename(ctx, m.From, m.To); err != nil {
			return err
		}
		s.Count(int64(n+1), int64(len(s.Moves)), "entries")
	}
	return nil
}

// Undo moves back what was moved, last first.
func (s *Swap) Undo(ctx context.Context) error {
	t, done, err := s.inAccount(ctx, s.Account)
	if err != nil {
		return err
	}
	defer done()
	n, err := t.made(ctx, s.Moves)
	if err != nil {
		return err
	}
	held := min(s.Hold, n)
	if err := t.moveAllBack(ctx, s.Moves[held:n]); err != nil {
		return err
	}
	if s.Flusher != "" {
		t.flush(ctx, s.Flusher)
	}
	if err := t.moveAllBack(ctx, s.Moves[:held]); err != nil {
		return err
	}
	return files.DropEmpty(ctx, t.In.Files, s.Made...)
}
