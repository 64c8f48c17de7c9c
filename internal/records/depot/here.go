package depot

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Here is the depot of this machine: names are its paths. What is committed is on the disk.
func Here() Depot { return here{} }

type here struct{}

// Create implements Depot.
func (here) Create(_ context.Context, name string) (Writer, error) {
	if err := os.MkdirAll(filepath.Dir(name), 0o700); err != nil {
		return nil, err
	}
	to, err := os.OpenFile(Half(name), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	return &hereWriter{File: to, name: name}, nil
}

// Open implements Depot.
func (here) Open(_ context.Context, name string) (io.ReadCloser, error) { return os.Open(name) }

// List implements Depot.
func (here) List(_ context.Context, folder string) ([]Entry, error) {
	inside, err := os.ReadDir(folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []Entry
	for _, i := range inside {
		info, err := i.Info()
		if err != nil {
			continue // it went meanwhile
		}
		out = append(out, Entry{i.Name(), info.Size(), info.ModTime(), i.IsDir()})
	}
	return out, err
}

// Remove implements Depot.
func (here) Remove(_ context.Context, name string) error {
	if err := os.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

type hereWriter struct {
	*os.File
	name         string
	closed, done bool
}

func (w *hereWriter) close() error {
	if w.closed {
		return nil
	}
	w.closed = true
	return errors.Join(w.Sync(), w.File.Close())
}

// Written implements Writer.
func (w *hereWriter) Written(context.Context) (io.ReadCloser, error) {
	if err := w.close(); err != nil {
		return nil, err
	}
	return os.Open(Half(w.name))
}

// Commit implements Writer.
func (w *hereWriter) Commit(context.Context) error {
	if err := w.close(); err != nil {
		return err
	}
	err := os.Rename(Half(w.name), w.name)
	w.done = err == nil
	return err
}

// Drop implements Writer.
func (w *hereWriter) Drop(context.Context) error {
	if w.done {
		return nil
	}
	w.done = true
	_ = w.close() // it goes
	return here{}.Remove(context.Background(), Half(w.name))
}
