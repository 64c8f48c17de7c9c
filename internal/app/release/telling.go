package release

import (
	"context"
	"sync/atomic"

	"tivset/internal/app/fetch"
)

// Telling is how far something is that is fetched.
type Telling struct {
	What  string
	N, Of int64 // bytes that are there, and how many there will be: 0 where that is not known
	Done  bool
}

// telling has what is fetched within the context told as what it is for, until done is
// called. Nothing is told where nothing had to be fetched.
func (a *Archives) telling(ctx context.Context, what string) (within context.Context, done func()) {
	if a.Told == nil {
		return ctx, func() {}
	}
	var heard atomic.Bool
	return fetch.Heard(ctx, func(n, of int64) {
			heard.Store(true)
			a.Told(Telling{What: what, N: n, Of: of})
		}), func() {
			if heard.Load() {
				a.Told(Telling{What: what, Done: true})
			}
		}
}
