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
	readers := 4
	if wide, ok := f.(Parallel); ok {
		readers = wide.Writers()
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	came := readAhead(ctx, f, list, readers)
	for _, found := range list {
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
		r, err := next(ctx, came)
		if err != nil {
			return err
		}
		var grown *TooLong
		switch {
		case r.err == nil:
			found.Size = int64(len(r.text))
			r.err = use(found, bytes.NewReader(r.text))
		case errors.As(r.err, &grown):
			r.err = again(ctx, f, found, use)
		}
		if r.err != nil && !errors.Is(r.err, fs.ErrNotExist) {
			return r.err
		}
	}
	return nil
}

// small is up to how many bytes a file is read ahead.
const small = 256 << 10

// content is what came of reading a small file.
type content struct {
	text []byte
	err  error
}

// readAhead reads the small files of a list, in their order, as many at a time as there are readers, until ctx ends.
func readAhead(ctx context.Context, f FS, list []Found, readers int) <-chan chan content {
	type asked struct {
		name string
		came chan content
	}
	all, queue := make(chan chan content, readers), make(chan asked)
	for range readers {
		go func() {
			for a := range queue {
				text, err := Read(ctx, f, a.name, small)
				a.came <- content{text, err}
			}
		}()
	}
	go func() {
		defer close(queue)
		for _, found := range list {
			if found.IsDir() || found.Size > small {
				continue
			}
			one := asked{found.Path, make(chan content, 1)}
			select {
			case all <- one.came:
				queue <- one // each reader comes back: what it reads ends with ctx
			case <-ctx.Done():
				return
			}
		}
	}()
	return all
}

// next waits for the next small file.
func next(ctx context.Context, all <-chan chan content) (content, error) {
	select {
	case came := <-all:
		select {
		case r := <-came:
			return r, nil
		case <-ctx.Done():
		}
	case <-ctx.Done():
	}
	return content{}, ctx.Err()
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
