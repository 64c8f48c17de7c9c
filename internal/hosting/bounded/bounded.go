// Package bounded keeps what strangers say, as far as it may be long: programs of an
// account, servers, helpers.
package bounded

import (
	"bytes"
	"errors"
)

// ErrTooMuch is the error of a write past the limit, unless the buffer has its own.
var ErrTooMuch = errors.New("it says too much")

// Buffer keeps what is written to it, up to a limit. The bytes.Buffer is no embedded
// field: io.Copy would find its ReadFrom and walk past Write.
type Buffer struct {
	kept     bytes.Buffer
	limit    int
	over     error
	begin    bool // keep the beginning, and drop the rest in silence
	exceeded bool
}

// New makes a buffer that takes limit bytes; a write past that is refused with over, or
// with ErrTooMuch when that is nil.
func New(limit int, over error) *Buffer {
	if over == nil {
		over = ErrTooMuch
	}
	return &Buffer{limit: limit, over: over}
}

// Beginning makes a buffer that keeps the first limit bytes, and passes over the rest.
func Beginning(limit int) *Buffer { return &Buffer{limit: limit, begin: true} }

// Write takes all of p, or none of it.
func (b *Buffer) Write(p []byte) (int, error) {
	if room := b.limit - b.kept.Len(); len(p) > room {
		b.exceeded = true
		if !b.begin {
			return 0, b.over
		}
		b.kept.Write(p[:room])
		return len(p), nil
	}
	return b.kept.Write(p)
}

// Exceeded says whether more was written than the buffer kept.
func (b *Buffer) Exceeded() bool { return b.exceeded }

// Bytes gives what was kept; valid until the next write.
func (b *Buffer) Bytes() []byte { return b.kept.Bytes() }

// String gives what was kept.
func (b *Buffer) String() string { return b.kept.String() }
