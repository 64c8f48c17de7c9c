// Package outbox keeps what this machine is to tell somebody until whoever takes it has: a mail server that is away,
// or a program killed in the middle, loses none. What was taken is dropped at once; where a machine dies between the
// two, the same comes again under the same name, by which whoever gets it can tell.
//
// Each letter is a file of its own, in a folder that is this machine's alone: nobody who can write into a team's
// database has something told by it.
package outbox

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tivset/internal/atomicfile"
	"tivset/internal/records/home"
)

// KeptFor is for how long a letter is tried: as long as mail servers do it (RFC 5321, 4.5.4.1).
const KeptFor = 5 * 24 * time.Hour

// waits are the pauses between the tries; the last is that between all further ones.
var waits = []time.Duration{5 * time.Minute, 15 * time.Minute, time.Hour, 3 * time.Hour}

// Letter is something that somebody is to be told.
type Letter struct {
	ID      string    `json:"id"`                // its own: the same whenever it comes
	To      string    `json:"to"`                // a mail's address, exec:PROGRAM, or https://…
	Account string    `json:"account,omitempty"` // whose mail server takes it
	Begun   time.Time `json:"begun"`

	Subject string          `json:"subject,omitempty"` // of a mail
	Text    string          `json:"text,omitempty"`    // of a mail
	Body    json.RawMessage `json:"body,omitempty"`    // for a program

	// While somebody still writes on it: what they need for that, and the name of their run, which they hold alone.
	Draft json.RawMessage `json:"draft,omitempty"`
	Run   string          `json:"run,omitempty"`

	Tries int       `json:"tries,omitempty"`
	Next  time.Time `json:"next,omitzero"` // not before
	Why   string    `json:"why,omitempty"` // it was not taken the last time
}

// Box is the outbox of a machine.
type Box struct {
	home   home.Home
	folder string
}

// At is the outbox of a home.
func At(h home.Home) *Box { return &Box{h, filepath.Join(h.State, "outbox")} }

const ending = ".json"

func (b *Box) file(id string) string { return filepath.Join(b.folder, id+ending) }

// Put keeps a letter, in place of what is there under its name.
func (b *Box) Put(l Letter) error {
	text, err := json.Marshal(l)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(b.folder, 0o700); err != nil {
		return err
	}
	return atomicfile.Write(b.file(l.ID), text, 0o600)
}

// Drop takes a letter out; none there is fine.
func (b *Box) Drop(id string) error {
	if err := os.Remove(b.file(id)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// Letters are all that are kept, the oldest first. One that cannot be read is an error beside the others.
func (b *Box) Letters() (all []Letter, err error) {
	entries, failed := os.ReadDir(b.folder)
	if failed != nil && !errors.Is(failed, fs.ErrNotExist) {
		return nil, failed
	}
	for _, e := range entries {
		id, is := strings.CutSuffix(e.Name(), ending)
		if !is || strings.HasPrefix(id, ".") {
			continue
		}
		switch l, failed := b.read(id); {
		case errors.Is(failed, fs.ErrNotExist): // taken meanwhile
		case failed != nil:
			err = errors.Join(err, failed)
		default:
			all = append(all, l)
		}
	}
	slices.SortStableFunc(all, func(x, y Letter) int { return x.Begun.Compare(y.Begun) })
	return all, err
}

func (b *Box) read(id string) (l Letter, err error) {
	text, err := os.ReadFile(b.file(id))
	if err != nil {
		return l, err
	}
	if err := json.Unmarshal(text, &l); err != nil {
		return l, fmt.Errorf("what waits to be sent in %s cannot be read: %w", b.file(id), err)
	}
	if l.ID != id {
		return l, fmt.Errorf("what waits to be sent in %s is not what its name says", b.file(id))
	}
	return l, nil
}

// Hold holds what a run writes until done; nil while somebody else does.
func (b *Box) Hold(run string) (done func(), err error) {
	if err := os.MkdirAll(b.folder, 0o700); err != nil {
		return nil, err
	}
	name := filepath.Join("outbox", run)
	free, err := b.home.Alone(name)
	if err != nil || free == nil {
		return nil, err
	}
	return func() {
		_ = os.Remove(filepath.Join(b.home.State, name+".lock")) // whoever waits for it looks whether it is still there
		free()
	}, nil
}

// Left are the letters of runs that have ended without ending them.
func (b *Box) Left() (left []Letter, err error) {
	if err := b.tidy(); err != nil {
		return nil, err
	}
	all, err := b.Letters()
	for _, l := range all {
		if l.Run == "" {
			continue
		}
		done, failed := b.Hold(l.Run)
		if failed != nil || done == nil {
			err = errors.Join(err, failed)
			continue
		}
		if l, failed = b.read(l.ID); failed == nil && l.Run != "" {
			left = append(left, l)
		}
		done()
	}
	return left, err
}

// tidy takes away what runs held that were killed.
func (b *Box) tidy() error {
	locks, err := filepath.Glob(filepath.Join(b.folder, "*.lock"))
	for _, name := range locks {
		if done, _ := b.Hold(strings.TrimSuffix(filepath.Base(name), ".lock")); done != nil {
			done()
		}
	}
	return err
}

// Came is what came of a sending.
type Came struct {
	Sent    int
	Failed  []error  // of letters that wait on
	GivenUp []Letter // those that were not taken in all the time
}

// Send hands on what is due, each letter by one process at a time.
func (b *Box) Send(ctx context.Context, now func() time.Time, post func(context.Context, Letter) error) (c Came) {
	all, err := b.Letters()
	if err != nil {
		c.Failed = append(c.Failed, err)
	}
	for _, l := range all {
		if ctx.Err() != nil {
			return c
		}
		if l.Run != "" || now().Before(l.Next) {
			continue
		}
		if err := b.send(ctx, l.ID, now, post, &c); err != nil {
			c.Failed = append(c.Failed, err)
		}
	}
	return c
}

// send hands on one letter, unless somebody else does or has.
func (b *Box) send(ctx context.Context, id string, now func() time.Time, post func(context.Context, Letter) error,
	c *Came,
) error {
	done, err := b.Hold(id)
	if err != nil || done == nil {
		return err
	}
	defer done()
	l, err := b.read(id)
	if errors.Is(err, fs.ErrNotExist) || err == nil && now().Before(l.Next) {
		return nil
	}
	if err != nil {
		return err
	}
	failed := post(ctx, l)
	switch {
	case failed == nil:
		c.Sent++
		return b.Drop(id)
	case ctx.Err() != nil:
		return nil // it was not its fault
	case now().Sub(l.Begun) >= KeptFor:
		l.Why = failed.Error()
		c.GivenUp = append(c.GivenUp, l)
		return b.Drop(id)
	}
	l.Next, l.Why = now().Add(waits[min(l.Tries, len(waits)-1)]).UTC(), failed.Error()
	l.Tries++
	return errors.Join(&Waits{l, failed}, b.Put(l))
}

// Waits is the error of a letter that was not taken, and is tried again.
type Waits struct {
	Letter Letter
	Cause  error
}

func (w *Waits) Error() string {
	return fmt.Sprintf("%s could not be told: %v; it waits, and is tried again from %s on", w.Letter.To, w.Cause,
		w.Letter.Next.Local().Format("15:04"))
}

func (w *Waits) Unwrap() error { return w.Cause }
