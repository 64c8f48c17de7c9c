package archive

import (
	"context"
	"errors"
	"io"
	"os"
	"path"
)

// Extract writes what is below top in the archive into a folder of this machine, which
// must be there: nothing comes to be outside of it, and files are only its owner's.
func Extract(ctx context.Context, file *os.File, top string, limits Limits, folder string) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	return Walk(ctx, file, top, limits, func(e Entry, content io.Reader) error {
		if e.Dir {
			return root.MkdirAll(e.Name, 0o700)
		}
		if err := root.MkdirAll(path.Dir(e.Name), 0o700); err != nil {
			return err
		}
		to, err := root.OpenFile(e.Name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return err
		}
		_, err = io.Copy(to, content)
		return errors.Join(err, to.Close())
	})
}
