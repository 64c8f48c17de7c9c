//go:build unix

package local

import (
	"io/fs"
	"os"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// How what may be a pipe is opened, which would be waited for, and what has to be a folder.
const (
	atOnce     = syscall.O_NONBLOCK
	onlyFolder = syscall.O_DIRECTORY
)

// ownerOf says to whom a folder belongs; nil for root, and where nobody knows.
func ownerOf(info fs.FileInfo) *owner {
	if s, ok := info.Sys().(*syscall.Stat_t); ok && s.Uid != 0 {
		return &owner{int(s.Uid), int(s.Gid)}
	}
	return nil
}

// umask reads what the system takes from the modes of this program's new files
// (proc(5)); where it cannot be read, all of it may be taken.
func umask() fs.FileMode {
	text, err := os.ReadFile("/proc/self/status")
	if err != nil {
		return 0o777
	}
	_, after, found := strings.Cut(string(text), "\nUmask:")
	line, _, _ := strings.Cut(after, "\n")
	mask, err := strconv.ParseUint(strings.TrimSpace(line), 8, 32)
	if !found || err != nil {
		return 0o777
	}
	return fs.FileMode(mask)
}

// free asks the file system for the bytes left to those who are not root.
func free(root *os.Root) (int64, error) {
	top, err := root.Open(".")
	if err != nil {
		return 0, err
	}
	defer top.Close()
	var s unix.Statfs_t
	if err := unix.Fstatfs(int(top.Fd()), &s); err != nil {
		return 0, err
	}
	return int64(s.Bavail) * int64(s.Bsize), nil
}

// as gives root the user and group of the account, for a program that runs in a folder of it: the account's user could
// have put a folder of root's there. Nobody else can change.
func (f *FS) as(folder fs.FileInfo) *syscall.SysProcAttr {
	if f.owner != nil {
		return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(f.owner.user), Gid: uint32(f.owner.group)}}
	}
	owner, ok := folder.Sys().(*syscall.Stat_t)
	if os.Geteuid() != 0 || !ok || owner.Uid == 0 {
		return nil
	}
	return &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: owner.Uid, Gid: owner.Gid}}
}
