package home

import (
	"os"
	"path/filepath"
	"time"

	"tivset/internal/atomicfile"
)

func (h Home) begun() string { return filepath.Join(h.State, "begun.yaml") }

// KeepBegun keeps the answers of an install that was left, in place of those of another.
func (h Home) KeepBegun(answers []byte) error {
	if err := os.MkdirAll(h.State, 0o700); err != nil {
		return err
	}
	return atomicfile.Write(h.begun(), answers, 0o600)
}

// Begun gives the answers that were kept, and since when; fs.ErrNotExist for none.
func (h Home) Begun() ([]byte, time.Time, error) {
	text, err := os.ReadFile(h.begun())
	if err != nil {
		return nil, time.Time{}, err
	}
	info, err := os.Stat(h.begun())
	if err != nil {
		return nil, time.Time{}, err
	}
	return text, info.ModTime(), nil
}

// DropBegun drops them; none there is fine.
func (h Home) DropBegun() error {
	if err := os.Remove(h.begun()); err != nil && !os.IsNotExist(err) {
		return err
	}
	return nil
}
