package local

import (
	"os"
	"path"

	"golang.org/x/sys/unix"
)

// rename moves without ever replacing: the kernel decides (renameat2(2) with
// RENAME_NOREPLACE), so nobody can slip a file in between a look and the move.
func (f *FS) rename(from, to string) error {
	oldDir, err := f.root.Open(path.Dir(from))
	if err != nil {
		return err
	}
	defer oldDir.Close()
	newDir, err := f.root.Open(path.Dir(to))
	if err != nil {
		return err
	}
	defer newDir.Close()
	err = unix.Renameat2(int(oldDir.Fd()), path.Base(from), int(newDir.Fd()), path.Base(to), unix.RENAME_NOREPLACE)
	if err == unix.EINVAL || err == unix.ENOSYS { // a file system that cannot
		return f.lookAndRename(from, to)
	}
	if err != nil {
		return &os.LinkError{Op: "rename", Old: from, New: to, Err: err}
	}
	return nil
}
