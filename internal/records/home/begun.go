package home

import (
	"os"
	"path/filepath"
	"time"

	"tivset/internal/atomicfile"
)

// What was answered in a conversation that was left, without secrets.
func (h Home) begun() string        { return filepath.Join(h.State, "begun.yaml") }
func (h Home) begunAccount() string { return filepath.Join(h.State, "begun-account.json") }

// KeepBegun keeps the answers to an install that was left.
func (h Home) KeepBegun(answers []byte) error { return h.keepAnswers(h.begun(), answers) }

// Begun gives the answers that were kept, and since when; fs.ErrNotExist for none.
func (h Home) Begun() ([]byte, time.Time, error) { return keptAnswers(h.begun()) }

// DropBegun drops them; none there is fine.
func (h Home) DropBegun() error { return dropAnswers(h.begun()) }

// KeepBegunAccount, BegunAccount and DropBegunAccount do the same for an account that was not added
// to its end.
func (h Home) KeepBegunAccount(answers []byte) error    { return h.keepAnswers(h.begunAccount(), answers) }
func (h Home) BegunAccount() ([]byte, time.Time, error) { return keptAnswers(h.begunAccount()) }
func (h Home) DropBegunAccount() error                  { return dropAnswers(h.begunAccount()) }

func (h Home) keepAnswers(file string, answers []byte) error {
	if err := os.MkdirAll(h.State, 0o700); err != nil {
		return err
	}
	return atomicfile.Write(file, answers, 0o600)
}

func keptAnswers(file string) ([]byte, time.Time, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, time.Time{}, err
	}
	info, err := os.Stat(file)
	if err != nil {
		return nil, time.Time{}, err
	}
	return text, info.ModTime(), nil
}

func dropAnswers(file string) error {
	if err := os.Remove(file); err != nil && !os.IsNotExist(err) {
		return err
	}
	return nil
}
