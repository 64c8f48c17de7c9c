// Package backoff is what to do where a server says that too many want something of it at
// once: wait, and come back with fewer.
package backoff

import (
	"context"
	"errors"
	"time"
)

// Patience is for how long a server that has too many is usually waited for.
const Patience = 90 * time.Second

// errTooMany is what every error matches that means too many at once.
var errTooMany = errors.New("too many at once")

// Of marks an error as one of a server that has too many at once.
func Of(cause error) error { return &crowded{cause} }

// Is says whether an error is of a server that has too many at once, and so one that
// passes by waiting.
func Is(err error) bool { return errors.Is(err, errTooMany) }

type crowded struct{ cause error }

func (c *crowded) Error() string        { return c.cause.Error() }
func (c *crowded) Unwrap() error        { return c.cause }
func (c *crowded) Is(target error) bool { return target == errTooMany }

// Wait tries something until no crowd is in its way, at most for as long as is given, with
// pauses that grow. Told is called each time there was one; it may be nil.
func Wait(ctx context.Context, patience time.Duration, told func(), try func() error) error {
	end := time.Now().Add(patience)
	for pause := 250 * time.Millisecond; ; pause = min(2*pause, 8*time.Second) {
		err := try()
		if !Is(err) {
			return err
		}
		if told != nil {
			told()
		}
		if time.Now().Add(pause).After(end) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause):
		}
	}
}
