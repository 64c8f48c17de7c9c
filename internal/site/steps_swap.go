package site

import (
	"context"
	"path"

	"tivset/internal/hosting/files"
)

// move is a file or folder that goes from one place of the account to another.
type move struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// swap moves files and folders, one after the other, each in one call: what is
// live is gone for as long as that takes, and no longer. What it makes room for
// is moved too, so that all of it can be moved back.
type swap struct {
	*env  `json:"-"`
	Label string   `json:"label"`
	Moves []move   `json:"moves"`
	Made  []string `json:"made"` // folders made for them, innermost first

	list func(context.Context) ([]move, error)
}

func (*swap) Kind() string    { return "swap" }
func (s *swap) Title() string { return s.Label }

// Prepare lists what will move, and which folders have to be made for it.
func (s *swap) Prepare(ctx context.Context) error {
	var err error
	if s.Moves, err = s.list(ctx); err != nil {
		return err
	}
	s.Made = nil
	seen := map[string]bool{}
	for _, m := range s.Moves {
		if err := s.missing(ctx, path.Dir(m.To), seen); err != nil {
			return err
		}
	}
	return nil
}

// missing notes a folder, and those above it, that are not there.
func (s *swap) missing(ctx context.Context, dir string, seen map[string]bool) error {
	if dir == "." || seen[dir] {
		return nil
	}
	seen[dir] = true
	there, err := files.Exists(ctx, s.files, dir)
	if err != nil || there {
		return err
	}
	if err := s.missing(ctx, path.Dir(dir), seen); err != nil {
		return err
	}
	s.Made = append([]string{dir}, s.Made...)
	return nil
}

func (s *swap) Do(ctx context.Context) error {
	for i := len(s.Made) - 1; i >= 0; i-- {
		if _, err := files.MkdirAll(ctx, s.files, s.Made[i], 0o755); err != nil {
			return err
		}
	}
	// Begun, it is done as a whole: an interrupt waits.
	ctx = context.WithoutCancel(ctx)
	for n, m := range s.Moves {
		if err := s.files.Rename(ctx, m.From, m.To); err != nil {
			return err
		}
		s.count(int64(n+1), int64(len(s.Moves)), "entries")
	}
	return nil
}

// Undo moves back what was moved, last first.
func (s *swap) Undo(ctx context.Context) error {
	for i := len(s.Moves) - 1; i >= 0; i-- {
		m := s.Moves[i]
		moved, err := files.Exists(ctx, s.files, m.To)
		if err != nil {
			return err
		}
		still, err := files.Exists(ctx, s.files, m.From)
		if err != nil {
			return err
		}
		if !moved || still {
			continue
		}
		if err := s.files.Rename(ctx, m.To, m.From); err != nil {
			return err
		}
	}
	return dropEmpty(ctx, s.files, s.Made...)
}

// dropFiles takes away what a settled job needs no more.
type dropFiles struct {
	*env  `json:"-"`
	Label string   `json:"label"`
	Names []string `json:"names"`
	Empty []string `json:"empty"` // folders that go when they are empty
}

func (*dropFiles) Kind() string               { return "drop-files" }
func (d *dropFiles) Title() string            { return d.Label }
func (*dropFiles) Undo(context.Context) error { return nil }

func (d *dropFiles) Do(ctx context.Context) error {
	for _, name := range d.Names {
		if err := files.RemoveAll(ctx, d.files, name); err != nil {
			return err
		}
	}
	return dropEmpty(ctx, d.files, d.Empty...)
}
