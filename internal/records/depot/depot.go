// Package depot is where things lie that have to outlive what they were made of: backups, and what an undo may have
// to put back. A depot may be the account's own folder, this machine, or anything else that keeps files.
//
// It knows nothing of what the files hold.
package depot

import (
	"context"
	"io"
	"io/fs"
	"path"
	"time"

	"tivset/internal/hosting/files"
)

// Depot keeps files. A suite (depottest) holds for all of them. Names are paths with slashes; what they are below the
// depot says.
type Depot interface {
	// Create begins a file, and the folders above it. Nothing is to be seen of it under its name until it is committed.
	Create(ctx context.Context, name string) (Writer, error)

	// Open reads a file; fs.ErrNotExist where there is none.
	Open(ctx context.Context, name string) (io.ReadCloser, error)

	// List lists what is in a folder, by name; nothing where there is none.
	List(ctx context.Context, folder string) ([]Entry, error)

	// Remove takes a file away; none there is fine. A depot may take folders away that are empty then.
	Remove(ctx context.Context, name string) error
}

// Writer writes one file.
type Writer interface {
	io.Writer

	// Written ends the writing, and reads what was written: what arrived, not what was sent.
	Written(ctx context.Context) (io.ReadCloser, error)

	// Commit has the file appear under its name, whole, and in the place of one that is there.
	Commit(ctx context.Context) error

	// Drop takes away what was written. After Commit it does nothing.
	Drop(ctx context.Context) error
}

// Entry is what a folder of a depot holds.
type Entry struct {
	Name     string // the last part of the path
	Bytes    int64
	Modified time.Time
	Folder   bool
}

// Half is the name under which a depot may have a file that was not committed: after a crash it is removed by it.
func Half(name string) string { return name + ".part" }

// Stat looks for one file; fs.ErrNotExist where there is none.
func Stat(ctx context.Context, d Depot, name string) (Entry, error) {
	all, err := d.List(ctx, path.Dir(name))
	for _, e := range all {
		if e.Name == path.Base(name) {
			return e, err
		}
	}
	if err == nil {
		err = &fs.PathError{Op: "stat", Path: name, Err: fs.ErrNotExist}
	}
	return Entry{}, err
}

// Read reads a whole file; fs.ErrNotExist where there is none.
func Read(ctx context.Context, d Depot, name string) ([]byte, error) {
	from, err := d.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer from.Close()
	return io.ReadAll(from)
}

// Write writes a whole file.
func Write(ctx context.Context, d Depot, name string, text []byte) error {
	return Fill(ctx, d, name, func(to io.Writer) error {
		_, err := to.Write(text)
		return err
	})
}

// Fill has a file written, whole or not at all.
func Fill(ctx context.Context, d Depot, name string, write func(io.Writer) error) error {
	to, err := d.Create(ctx, name)
	if err != nil {
		return err
	}
	if err = write(to); err == nil {
		err = to.Commit(ctx)
	}
	if err != nil {
		_ = to.Drop(context.WithoutCancel(ctx)) // why it failed says more
	}
	return err
}

// In is a depot in the files of an account: folders below top that are empty after a removal go, top included.
func In(f files.FS, top string) Depot { return inFiles{f, top} }
