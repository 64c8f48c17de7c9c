package index

import (
	"archive/tar"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"

	"tivset/internal/app/archive"
)

// Pack makes one file of a kit's folder, a plain tar archive (POSIX pax): the same bytes
// on every machine. Names that begin with .git or end with ~ are left out. Links are
// followed as far as the folder lets them.
func Pack(folder fs.FS) ([]byte, error) {
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	err := fs.WalkDir(folder, ".", func(name string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case strings.HasPrefix(d.Name(), ".git") || strings.HasSuffix(name, "~"):
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		case d.IsDir():
			return nil
		}
		if info, err := fs.Stat(folder, name); err != nil || !info.Mode().IsRegular() {
			return fmt.Errorf("%s is no file of the kit's own (%v)", name, err)
		}
		text, err := fs.ReadFile(folder, name)
		if err != nil {
			return err
		}
		if out.Len()+len(text) > largestFile {
			return fmt.Errorf("it is larger than %d bytes", int64(largestFile))
		}
		head := &tar.Header{Typeflag: tar.TypeReg, Name: name, Mode: 0o644, Size: int64(len(text)),
			ModTime: time.Unix(0, 0).UTC()}
		if err := w.WriteHeader(head); err != nil {
			return err
		}
		_, err = w.Write(text)
		return err
	})
	return out.Bytes(), errors.Join(err, w.Close())
}

// limits bound what a packed kit may hold.
var limits = archive.Limits{Entries: 10_000, Bytes: largestFile}

// unpack writes a packed kit into a folder, which comes to be whole or not at all.
func unpack(ctx context.Context, file *os.File, folder string) error {
	made, err := os.MkdirTemp(path.Dir(folder), ".new-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(made)
	if err := archive.Extract(ctx, file, "", limits, made); err != nil {
		return err
	}
	if err = os.Rename(made, folder); errors.Is(err, fs.ErrExist) {
		return nil // another program was first
	}
	return err
}
