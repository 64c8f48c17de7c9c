package depot

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"

	"tivset/internal/hosting/files"
)

type inFiles struct {
	files.FS
	top string
}

// Create implements Depot.
func (d inFiles) Create(ctx context.Context, name string) (Writer, error) {
	if _, err := files.MkdirAll(ctx, d.FS, path.Dir(name), 0o700); err != nil {
		return nil, err
	}
	half := Half(name)
	to, err := d.FS.Create(ctx, half, 0o600)
	if errors.Is(err, fs.ErrExist) { // of somebody who was killed
		if err = d.FS.Remove(ctx, half); err == nil {
			to, err = d.FS.Create(ctx, half, 0o600)
		}
	}
	if err != nil {
		return nil, err
	}
	return &fileWriter{d: d, name: name, to: to}, nil
}

// Open implements Depot.
func (d inFiles) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	return d.FS.Open(ctx, name)
}

// List implements Depot.
func (d inFiles) List(ctx context.Context, folder string) ([]Entry, error) {
	inside, err := d.FS.List(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var out []Entry
	for _, i := range inside {
		out = append(out, Entry{i.Name, i.Size, i.Modified, i.IsDir()})
	}
	return out, err
}

// Remove implements Depot.
func (d inFiles) Remove(ctx context.Context, name string) error {
	if err := files.Drop(ctx, d.FS, name); err != nil {
		return err
	}
	var above []string
	for folder := path.Dir(name); folder == d.top || strings.HasPrefix(folder, d.top+"/"); folder = path.Dir(folder) {
		above = append(above, folder)
	}
	return files.DropEmpty(ctx, d.FS, above...)
}

// fileWriter writes a file under another name until it is committed.
type fileWriter struct {
	d    inFiles
	name string
	to   io.WriteCloser // nil once it is closed
	done bool
}

func (w *fileWriter) Write(p []byte) (int, error) { return w.to.Write(p) }

func (w *fileWriter) close() (err error) {
	if w.to != nil {
		err, w.to = w.to.Close(), nil
	}
	return err
}

// Written implements Writer.
func (w *fileWriter) Written(ctx context.Context) (io.ReadCloser, error) {
	if err := w.close(); err != nil {
		return nil, err
	}
	return w.d.Open(ctx, Half(w.name))
}

// Commit implements Writer. Where a file is there already, there is none for a moment: files of accounts have no
// rename onto something.
func (w *fileWriter) Commit(ctx context.Context) error {
	if err := w.close(); err != nil {
		return err
	}
	err := w.d.Rename(ctx, Half(w.name), w.name)
	if errors.Is(err, fs.ErrExist) {
		if err = files.Drop(ctx, w.d.FS, w.name); err == nil {
			err = w.d.Rename(ctx, Half(w.name), w.name)
		}
	}
	w.done = err == nil
	return err
}

// Drop implements Writer.
func (w *fileWriter) Drop(ctx context.Context) error {
	if w.done {
		return nil
	}
	w.done = true
	return errors.Join(w.close(), files.Drop(ctx, w.d.FS, Half(w.name)))
}
