package files

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
)

// ReadAll hands over files in their order, the content of small ones read ahead
// by several readers: over a long line each takes some round trips. Files live
// while they are read: of a small one Size is that of what was read, one that has
// grown is looked at once more, and one that has gone since it was listed is passed over.
func ReadAll(ctx context.Context, f FS, list []Found, use func(Found, io.Reader) error) error {
	const small = 256 << 10
	readers := 4
	if wide, ok := f.(Parallel); ok {
		readers = wide.Writers()
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type read struct {
		content []byte
		err     error
	}
	results, slots := make([]chan read, len(list)), make(chan struct{}, readers)
	queue := make(chan int)
	for i := range results {
		results[i] = make(chan read, 1)
	}
	for range readers {
		go func() {
			for i := range queue {
				content, err := Read(ctx, f, list[i].Path, small)
				results[i] <- read{content, err}
			}
		}()
	}
	go func() {
		defer close(queue)
		for i, found := range list {
			if found.IsDir() || found.Size > small {
				continue
			}
			select {
			case slots <- struct{}{}:
				queue <- i
			case <-ctx.Done():
				return
			}
		}
	}()
	for i, found := range list {
		switch {
		case found.IsDir():
			if err := use(found, nil); err != nil {
				return err
			}
			continue
		case found.Size > small:
			if err := streamed(ctx, f, found, use); err != nil {
				return err
			}
			continue
		}
		select {
		case r := <-results[i]:
			results[i] = nil
			var grown *TooLong
			switch {
			case r.err == nil:
				found.Size = int64(len(r.content))
				r.err = use(found, bytes.NewReader(r.content))
			case errors.As(r.err, &grown):
				r.err = again(ctx, f, found, use)
			}
			if r.err != nil && !errors.Is(r.err, fs.ErrNotExist) {
				return r.err
			}
			<-slots
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	return nil
}

// again hands over a file that is not small any more, with the size that it has now.
func again(ctx context.Context, f FS, found Found, use func(Found, io.Reader) error) error {
	now, err := f.Stat(ctx, found.Path)
	if err != nil {
		return err
	}
	if !now.Mode.IsRegular() { // the file went, and something else came
		return fs.ErrNotExist
	}
	found.Info = now
	return streamed(ctx, f, found, use)
}

func streamed(ctx context.Context, f FS, found Found, use func(Found, io.Reader) error) error {
	r, err := f.Open(ctx, found.Path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return errors.Join(use(found, r), r.Close())
}
