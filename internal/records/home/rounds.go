package home

import (
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gofrs/flock"

	"tivset/internal/atomicfile"
)

// Rounds is what this machine keeps of its rounds; what they did is in the ledger.
type Rounds struct {
	At      time.Time `json:"at"`        // when the last one began
	Seconds float64   `json:"seconds"`   // how long it took
	Looked  time.Time `json:"looked_up"` // when it was last looked up what is newer
	// when the one began that is under way, or that did not come to its end; zero for none
	Begun time.Time `json:"begun,omitzero"`
	Asked bool      `json:"asked,omitempty"` // the owner was asked whether there are to be rounds

	// What older releases kept here, by address and trouble: when it was told of last.
	Told map[string]map[string]time.Time `json:"told,omitempty"`
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
	return atomicfile.Write(h.roundsFile(), text, 0o600)
}

// RoundUnderWay says since when a round is under way on this machine; zero where none is.
func (h Home) RoundUnderWay() (since time.Time, err error) {
	r, err := h.Rounds()
	if err != nil || r.Begun.IsZero() {
		return time.Time{}, err
	}
	done, err := h.Alone(RoundsLock)
	if err != nil {
		return time.Time{}, err
	}
	if done != nil { // the one that began was ended by force
		done()
		return time.Time{}, nil
	}
	return r.Begun, nil
}

// RoundsLock is what a round holds while it is under way.
const RoundsLock = "rounds"

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
