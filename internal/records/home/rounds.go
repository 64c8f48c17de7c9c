package home

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"
)

// Rounds is what is kept of the rounds of this machine.
type Rounds struct {
	At      time.Time                       `json:"at"`              // when the last one began
	Seconds float64                         `json:"seconds"`         // how long it took
	Looked  time.Time                       `json:"looked_up"`       // when it was last looked up what is newer
	Lines   []RoundLine                     `json:"lines"`           // what the last one that did anything did …
	LinesAt time.Time                       `json:"lines_at"`        // … and when
	Told    map[string]map[string]time.Time `json:"told,omitempty"`  // by address and trouble: when it was told of last
	Asked   bool                            `json:"asked,omitempty"` // the owner was asked whether there are to be rounds
}

// RoundLine is something that a round did at a site, or met.
type RoundLine struct {
	Address string `json:"address"`
	What    string `json:"what"` // updated, backed up, checked, trouble, waits, due
	Detail  string `json:"detail"`
}

func (h Home) roundsFile() string { return filepath.Join(h.State, "rounds.json") }

// Rounds reads what is kept of rounds; of none there is nothing.
func (h Home) Rounds() (Rounds, error) {
	var r Rounds
	text, err := os.ReadFile(h.roundsFile())
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err == nil {
		err = json.Unmarshal(text, &r)
	}
	return r, err
}

// KeepRounds keeps it.
func (h Home) KeepRounds(r Rounds) error {
	text, err := json.Marshal(r)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(h.State, 0o700); err != nil {
		return err
	}
	return renameio.WriteFile(h.roundsFile(), text, 0o600)
}

// Alone holds off others of this machine that do the same until done; done is nil while
// another one is at it.
func (h Home) Alone(what string) (done func(), err error) {
	if err := os.MkdirAll(h.State, 0o700); err != nil {
		return nil, err
	}
	lock := flock.New(filepath.Join(h.State, what+".lock"))
	held, err := lock.TryLock()
	if err != nil || !held {
		return nil, err
	}
	return func() { _ = lock.Unlock() }, nil
}
