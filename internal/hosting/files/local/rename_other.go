//go:build !linux

package local

import (
	"errors"
	"fmt"
	"os"
)

func (f *FS) rename(from, to string) error { return f.lookAndRename(from, to) }

// entered gives the name of an open folder, where it is that folder's still. This system has no name for an open one:
// root runs no programs of others here.
func entered(folder *os.File, name string) (string, error) {
	if name == "" {
		return "", errors.ErrUnsupported
	}
	now, err := os.Lstat(name)
	if err != nil {
		return "", err
	}
	if was, err := folder.Stat(); err != nil || !os.SameFile(now, was) {
		return "", fmt.Errorf("the folder %s was exchanged meanwhile", name)
	}
	if os.Geteuid() == 0 {
		return "", fmt.Errorf("root runs no programs in %s on this system", name)
	}
	return name, nil
}
