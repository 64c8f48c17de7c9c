package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"sync"

	"golang.org/x/sync/errgroup"
)

// Exists says whether anything is at name.
func Exists(ctx context.Context, f FS, name string) (bool, error) {
	_, err := f.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// RemoveAll takes away name and all below it; nothing there is fine.
func RemoveAll(ctx context.Context, f FS, name string) error {
	if t, ok := f.(TreeRemover); ok {
		return t.RemoveAll(ctx, name)
	}
	info, err := f.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if info.IsDir() {
		inside, err := f.List(ctx, name)
		if err != nil {
			return err
		}
		for _, i := range inside {
			if err := RemoveAll(ctx, f, path.Join(name, i.Name)); err != nil {
				return err
			}
		}
	}
	return f.Remove(ctx, name)
}

// MkdirAll makes a folder and those above it that are missing, each with mode,
// and returns the topmost that it made ("" for none).
func MkdirAll(ctx context.Context, f FS, name string, mode fs.FileMode) (made string, err error) {
	if name == "." {
		return "", nil
	}
	err = f.Mkdir(ctx, name, mode)
	if errors.Is(err, fs.ErrNotExist) {
		if made, err = MkdirAll(ctx, f, path.Dir(name), mode); err != nil {
			return made, err
		}
		err = f.Mkdir(ctx, name, mode)
	}
	if err == nil && made == "" {
		return name, nil
	}
	if errors.Is(err, fs.ErrExist) {
		info, statErr := f.Stat(ctx, name)
		if statErr != nil || !info.IsDir() {
			return made, err
		}
		return made, nil
	}
	return made, err
}

// Write makes a new file of content.
func Write(ctx context.Context, f FS, name string, content []byte, mode fs.FileMode) error {
	w, err := f.Create(ctx, name, mode)
	if err != nil {
		return err
	}
	if _, err := w.Write(content); err != nil {
		w.Close()
		return err
	}
	return w.Close()
}

// Read gives a file's content; a file of more than limit bytes is an error.
func Read(ctx context.Context, f FS, name string, limit int64) ([]byte, error) {
	r, err := f.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	content, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(content)) > limit {
		return nil, fmt.Errorf("%s has more than %d bytes", name, limit)
	}
	return content, err
}

// Count adds up the files below a folder and their bytes. Folders in skip are
// passed over. Over a long line, many folders are listed at a time.
func Count(ctx context.Context, f FS, name string, skip func(name string) bool) (files int, bytes int64, err error) {
	c := &counter{f: f, skip: skip}
	c.group, ctx = errgroup.WithContext(ctx)
	c.group.SetLimit(1)
	if w, ok := f.(Wide); ok {
		c.group.SetLimit(w.Writers())
	}
	err = errors.Join(c.folder(ctx, name), c.group.Wait())
	return c.files, c.bytes, err
}

type counter struct {
	f     FS
	skip  func(string) bool
	group *errgroup.Group

	mu    sync.Mutex
	files int
	bytes int64
}

func (c *counter) folder(ctx context.Context, name string) error {
	inside, err := c.f.List(ctx, name)
	if err != nil {
		return err
	}
	for _, i := range inside {
		full := path.Join(name, i.Name)
		switch {
		case c.skip != nil && c.skip(full):
		case !i.IsDir():
			c.mu.Lock()
			c.files, c.bytes = c.files+1, c.bytes+i.Size
			c.mu.Unlock()
		case !c.group.TryGo(func() error { return c.folder(ctx, full) }): // all are busy
			if err := c.folder(ctx, full); err != nil {
				return err
			}
		}
	}
	return nil
}
