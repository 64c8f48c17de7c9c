package local

import (
	"errors"
	"io/fs"
	"os"
)

// lookAndRename is the move for systems that cannot refuse to replace.
func (f *FS) lookAndRename(from, to string) error {
	if _, err := f.root.Lstat(to); err == nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: fs.ErrExist}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return f.root.Rename(from, to)
}
