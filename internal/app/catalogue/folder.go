package catalogue

import (
	"encoding/binary"
	"encoding/hex"
	"errors"
	"hash/fnv"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Folder is a catalogue in a folder of this machine. Of each kit nothing outside
// of the kit's own folder is ever read, whatever its links and names say.
func Folder(name, folder string) Source { return Source{Name: name, Files: rooted(folder)} }

// rooted is a folder out of which nothing leads, with subfolders out of which
// nothing leads either. It is opened when something is read.
type rooted string

// Open implements fs.FS.
func (r rooted) Open(name string) (fs.File, error) {
	root, err := os.OpenRoot(string(r))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.FS().Open(name)
}

// Sub implements fs.SubFS.
func (r rooted) Sub(dir string) (fs.FS, error) {
	root, err := os.OpenRoot(string(r))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	if info, err := root.Lstat(dir); err == nil && !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: fs.ErrInvalid}
	}
	return rooted(filepath.Join(string(r), filepath.FromSlash(dir))), nil
}

// stamp tells whether anything in a kit's folder may have changed: names, sizes and
// times of its files; "" where that cannot be told.
func (r rooted) stamp(app string) string {
	sum, text := fnv.New128a(), []byte{}
	err := filepath.WalkDir(filepath.Join(string(r), app), func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		if info.Mode()&fs.ModeSymlink != 0 {
			return errors.ErrUnsupported // what it leads to may change without it
		}
		text = append(append(text[:0], name...), 0)
		text = binary.BigEndian.AppendUint64(text, uint64(info.Size()))
		text = binary.BigEndian.AppendUint64(text, uint64(info.ModTime().UnixNano()))
		_, err = sum.Write(text)
		return err
	})
	if err != nil {
		return ""
	}
	return hex.EncodeToString(sum.Sum(nil))
}

// kitsIn lists the folders that may hold kits.
func kitsIn(files fs.FS) ([]string, error) {
	folders, err := fs.ReadDir(files, ".")
	var out []string
	for _, f := range folders {
		if f.IsDir() && !strings.HasPrefix(f.Name(), ".") {
			out = append(out, f.Name())
		}
	}
	return out, err
}
