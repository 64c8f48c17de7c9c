//go:build unix

package atomicfile

import (
	"errors"
	"os"
)

// syncFolder makes sure that a file's new name is on the disk too.
func syncFolder(name string) error {
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
