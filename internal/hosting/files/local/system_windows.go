package local

import (
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/windows"
)

// Nothing that is opened here waits; what has to be a folder is found out afterwards.
const (
	atOnce     = 0
	onlyFolder = 0
)

// umask: all of a mode may be taken.
func umask() fs.FileMode { return 0o777 }

// free asks the file system for the bytes left to this user (GetDiskFreeSpaceExW).
func free(root *os.Root) (int64, error) {
	name, err := windows.UTF16PtrFromString(root.Name())
	if err != nil {
		return 0, err
	}
	var mine, all, left uint64
	if err := windows.GetDiskFreeSpaceEx(name, &mine, &all, &left); err != nil {
		return 0, err
	}
	return int64(mine), nil
}

func (f *FS) as(fs.FileInfo) *syscall.SysProcAttr { return nil }

func ownerOf(fs.FileInfo) *owner { return nil }
