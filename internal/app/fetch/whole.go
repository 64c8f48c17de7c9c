package fetch

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"
)

// ErrOther says that what came is not what was wanted: its checksum differs.
var ErrOther = errors.New("it is not what was wanted: its checksum differs")

// Wanted is a file whose checksum is known.
type Wanted struct {
	Name   string // the file that it is to become, with its folder
	SHA256 string // in hexadecimal
	Size   int64  // in bytes; 0 where it is not known
	Most   int64  // how many bytes are taken, where the size is not known
}

// Asking asks for a file from a byte on: the answer's status is 200 or 206.
type Asking func(ctx context.Context, from int64) (*http.Response, error)

// At asks an address.
func At(client *http.Client, address string) Asking {
	return func(ctx context.Context, from int64) (*http.Response, error) {
		r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
		if err != nil {
			return nil, err
		}
		if from > 0 {
			r.Header.Set("Range", fmt.Sprintf("bytes=%d-", from))
		}
		answer, err := Careful(client).Do(r)
		if err != nil {
			return nil, err
		}
		if answer.StatusCode != http.StatusOK && answer.StatusCode != http.StatusPartialContent {
			answer.Body.Close()
			return nil, &Answered{answer.StatusCode, answer.Status}
		}
		return answer, nil
	}
}

// Answered is the error of an answer that has no file.
type Answered struct {
	Code   int
	Status string
}

// Error gives the status.
func (a *Answered) Error() string { return "the server answered " + a.Status }

// tries is how often a line that ends is taken up again.
const tries = 3

// Whole fetches a file that is wanted, unless it is there. What came of it before is gone
// on with (RFC 9110, 14.2), and who fetches it already, in another process too, is waited
// for. Who listens within the context (Heard) is told.
func Whole(ctx context.Context, ask Asking, w Wanted) error {
	if sumOf(w.Name) == strings.ToLower(w.SHA256) {
		return nil
	}
	locks := filepath.Join(filepath.Dir(w.Name), "locks")
	if err := os.MkdirAll(locks, 0o700); err != nil {
		return err
	}
	lock := flock.New(filepath.Join(locks, filepath.Base(w.Name)))
	if _, err := lock.TryLockContext(ctx, 100*time.Millisecond); err != nil {
		return err
	}
	defer func() { _ = lock.Unlock() }()
	if sumOf(w.Name) == strings.ToLower(w.SHA256) {
		return nil
	}
	part := w.Name + ".part"
	for try := 1; ; try++ {
		resumed, err := w.goOn(ctx, ask, part)
		var answered *Answered
		switch {
		case err == nil && sumOf(part) == strings.ToLower(w.SHA256):
			return os.Rename(part, w.Name)
		case err == nil: // what was gone on with may have been another file
			if err = os.Remove(part); err == nil && resumed && try < tries {
				continue
			}
			return errors.Join(ErrOther, err)
		case errors.As(err, &answered) && answered.Code == http.StatusRequestedRangeNotSatisfiable:
			_ = os.Remove(part)
		case errors.As(err, &answered):
			return err
		}
		if try == tries || ctx.Err() != nil {
			return err
		}
	}
}

// goOn takes what is still missing of a file, and says whether something was there.
func (w Wanted) goOn(ctx context.Context, ask Asking, part string) (resumed bool, err error) {
	var have int64
	if info, err := os.Stat(part); err == nil && (w.Size == 0 || info.Size() < w.Size) {
		have = info.Size()
	}
	answer, err := ask(ctx, have)
	if err != nil {
		return false, err
	}
	defer answer.Body.Close()
	flags := os.O_CREATE | os.O_WRONLY | os.O_APPEND
	if answer.StatusCode != http.StatusPartialContent {
		have, flags = 0, os.O_CREATE|os.O_WRONLY|os.O_TRUNC
	}
	most, of := w.Size, w.Size
	if w.Size == 0 {
		if most = w.Most; answer.ContentLength > 0 {
			of = have + answer.ContentLength
		}
	}
	to, err := os.OpenFile(part, flags, 0o600)
	if err != nil {
		return false, err
	}
	n, err := io.Copy(&counting{to, have, of, heard(ctx)}, io.LimitReader(answer.Body, most-have+1))
	err = errors.Join(err, to.Close())
	switch {
	case err != nil:
	case have+n > most:
		err = errors.Join(fmt.Errorf("it has more than the %d bytes that it may have", most), os.Remove(part))
	case have+n < w.Size:
		err = fmt.Errorf("the line ended after %d of %d bytes", have+n, w.Size)
	}
	return have > 0, err
}

type listener struct{}

// Heard has somebody told, within the context, of what Whole fetches: how many bytes are
// there, and of how many; 0 where that is not known.
func Heard(ctx context.Context, told func(n, of int64)) context.Context {
	return context.WithValue(ctx, listener{}, told)
}

func heard(ctx context.Context) func(n, of int64) {
	told, _ := ctx.Value(listener{}).(func(n, of int64))
	return told
}

type counting struct {
	to    io.Writer
	n, of int64
	told  func(n, of int64)
}

func (c *counting) Write(p []byte) (int, error) {
	n, err := c.to.Write(p)
	if c.n += int64(n); c.told != nil {
		c.told(c.n, c.of)
	}
	return n, err
}

// sumOf is a file's SHA-256; "" for one that cannot be read.
func sumOf(name string) string {
	file, err := os.Open(name)
	if err != nil {
		return ""
	}
	defer file.Close()
	sum := sha256.New()
	if _, err := io.Copy(sum, file); err != nil {
		return ""
	}
	return hex.EncodeToString(sum.Sum(nil))
}
