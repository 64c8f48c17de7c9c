// Package atomicfile writes files that are there whole or not at all: what is written lies beside the file until it
// is complete and on the disk, and then takes its place in one step.
package atomicfile

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
)

// Write replaces a file with one of this content and mode, whatever the umask.
func Write(name string, content []byte, mode fs.FileMode) error {
	f, err := Create(name, mode)
	if err != nil {
		return err
	}
	if _, err := f.Write(content); err != nil {
		return errors.Join(err, f.Cancel())
	}
	return f.Replace()
}

// File is a file that is not in its place yet.
type File struct {
	*os.File
	name string
	over bool
}

// Create begins a file of a mode that is to be called name, in a folder which is there.
func Create(name string, mode fs.FileMode) (*File, error) {
	beside, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+"-*") // with mode 0600
	if err != nil {
		return nil, err
	}
	f := &File{File: beside, name: name}
	if err := beside.Chmod(mode); err != nil {
		return nil, errors.Join(err, f.Cancel())
	}
	return f, nil
}

// Replace brings what was written to the disk, and the file to its place. On failure nothing has changed there.
func (f *File) Replace() error {
	if f.over {
		return fs.ErrClosed
	}
	if err := f.Sync(); err != nil {
		return errors.Join(err, f.Cancel())
	}
	f.over = true
	err := f.Close()
	if err == nil {
		err = os.Rename(f.Name(), f.name)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return SyncFolder(filepath.Dir(f.name))
}

// Cancel takes away what was written, unless it has taken its place: then it does nothing.
func (f *File) Cancel() error {
	if f.over {
		return nil
	}
	f.over = true
	return errors.Join(f.Close(), os.Remove(f.Name()))
}
