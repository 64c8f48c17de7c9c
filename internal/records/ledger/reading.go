package ledger

import (
	"errors"
	"runtime"
	"slices"

	"github.com/segmentio/encoding/json" // which reads thousands of records in half the time
	"golang.org/x/sync/errgroup"
)

// Reading reads records that come one after the other. Reading JSON takes longest: of
// thousands each processor reads its share, while the rest still comes.
type Reading[T any] struct {
	readers errgroup.Group
	begun   bool
	shares  [][]T
	texts   [][]byte
}

// share is how many records one processor reads at a time.
const share = 256

// Take takes the JSON of the next one.
func (r *Reading[T]) Take(text []byte) {
	if r.texts = append(r.texts, text); len(r.texts) == share {
		r.hand()
	}
}

func (r *Reading[T]) hand() {
	if !r.begun {
		r.readers.SetLimit(runtime.GOMAXPROCS(0))
		r.begun = true
	}
	read, mine := make([]T, len(r.texts)), r.texts
	r.shares, r.texts = append(r.shares, read), make([][]byte, 0, share)
	r.readers.Go(func() error {
		for i, text := range mine {
			if err := json.Unmarshal(text, &read[i]); err != nil {
				return errors.Join(errRecord, err)
			}
		}
		return nil
	})
}

// All waits for the readers, and gives the records in their order; an empty list of none.
func (r *Reading[T]) All() ([]T, error) {
	r.hand()
	err := r.readers.Wait()
	if len(r.shares) == 1 {
		return r.shares[0], err
	}
	return slices.Concat(r.shares...), err
}
