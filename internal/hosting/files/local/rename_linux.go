package local

import (
	"os"
	"path"
	"strconv"

	"golang.org/x/sys/unix"
)

// entered names an open folder so that a program begins in it (proc(5), /proc/self/fd).
func entered(folder *os.File, _ string) (string, error) {
	return "/proc/self/fd/" + strconv.Itoa(int(folder.Fd())), nil
}

// rename moves without ever replacing: the kernel decides (renameat2(2) with
// RENAME_NOREPLACE), so nobody can slip a file in between a look and the move.
func (f *FS) rename(from, to string) error {
	oldDir, err := f.folder(path.Dir(from))
	if err != nil {
		return err
	}
	defer oldDir.Close()
	newDir, err := f.folder(path.Dir(to))
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
