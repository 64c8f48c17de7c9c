//go:build unix

package atomicfile

import (
	"errors"
	"os"
)

// SyncFolder makes sure that a file's new name is on the disk too.
func SyncFolder(name string) error {
	dir, err := os.Open(name)
	if err != nil {
		return err
	}
	return errors.Join(dir.Sync(), dir.Close())
}
