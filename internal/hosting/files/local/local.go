// Package local reaches an account's files on this machine.
//
// All access goes through an os.Root, so that no link in the account leads out
// of it. When the program runs as root, what it makes belongs to the owner of
// the account's folder.
package local

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"syscall"

	"tivset/internal/hosting/files"
	"tivset/internal/logs"
)

// FS is the files below a folder of this machine.
type FS struct {
	root  *os.Root
	owner *owner      // whom new files are given to, or nil
	umask fs.FileMode // what the system takes from the mode of new files

	open openFolders
}

type owner struct{ user, group int }

var (
	_ files.FS          = (*FS)(nil)
	_ files.TreeRemover = (*FS)(nil)
	_ files.SpaceTeller = (*FS)(nil)
)

// Open opens the folder at an absolute path. The caller closes it.
func Open(top string) (*FS, error) {
	root, err := os.OpenRoot(top)
	if err != nil {
		return nil, err
	}
	f := &FS{root: root, umask: umask()}
	if os.Geteuid() == 0 {
		info, err := root.Stat(".")
		if err != nil {
			root.Close()
			return nil, err
		}
		f.owner = ownerOf(info)
	}
	return f, nil
}

// Close lets go of the folder.
func (f *FS) Close() error {
	f.open.leave()
	return f.root.Close()
}

// ready refuses names that are none and calls that were cancelled.
func ready(ctx context.Context, names ...string) error {
	for _, n := range names {
		if err := files.Valid(n); err != nil {
			return err
		}
	}
	return ctx.Err()
}

func describe(i fs.FileInfo) files.Info {
	info := files.Info{Name: files.Escape(i.Name()), Mode: i.Mode(), Modified: i.ModTime()}
	if i.Mode().IsRegular() {
		info.Size = i.Size()
	}
	return info
}

// Stat implements files.FS.
func (f *FS) Stat(ctx context.Context, name string) (_ files.Info, err error) {
	defer logs.Asked(ctx, "files", "look at", name)(&err)
	if err := ready(ctx, name); err != nil {
		return files.Info{}, err
	}
	i, err := f.root.Lstat(files.Raw(name))
	if err != nil {
		return files.Info{}, missing(err)
	}
	return describe(i), nil
}

// missing makes "something on the way is no folder" what it means here: there
// is nothing of that name.
func missing(err error) error {
	if errors.Is(err, syscall.ENOTDIR) {
		return &fs.PathError{Op: "find", Path: pathOf(err), Err: fs.ErrNotExist}
	}
	return err
}

func pathOf(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Path
	}
	return ""
}

// List implements files.FS.
func (f *FS) List(ctx context.Context, name string) (_ []files.Info, err error) {
	defer logs.Asked(ctx, "files", "list", name)(&err)
	if err := ready(ctx, name); err != nil {
		return nil, err
	}
	dir, err := f.folder(name)
	if err != nil {
		return nil, missing(err)
	}
	defer dir.Close()
	entries, err := dir.Readdir(-1)
	if err != nil {
		return nil, missing(err)
	}
	out := make([]files.Info, len(entries))
	for i, e := range entries {
		out[i] = describe(e)
	}
	slices.SortFunc(out, func(a, b files.Info) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}

// folder opens a folder, and nothing else: a pipe of that name would be waited for.
func (f *FS) folder(name string) (*os.File, error) {
	return f.root.OpenFile(files.Raw(name), os.O_RDONLY|onlyFolder|atOnce, 0)
}

// Open implements files.FS.
func (f *FS) Open(ctx context.Context, name string) (_ io.ReadCloser, err error) {
	defer logs.Asked(ctx, "files", "open", name)(&err)
	if err := ready(ctx, name); err != nil {
		return nil, err
	}
	// A pipe would be waited for until somebody writes; what is no regular file is not read.
	file, err := f.root.OpenFile(files.Raw(name), os.O_RDONLY|atOnce, 0)
	if err != nil {
		return nil, missing(err)
	}
	if info, err := file.Stat(); err != nil || !info.Mode().IsRegular() {
		if err == nil {
			err = &fs.PathError{Op: "open", Path: name, Err: errors.New("it is no file")}
		}
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

// Create implements files.FS.
func (f *FS) Create(ctx context.Context, name string, mode fs.FileMode) (_ io.WriteCloser, err error) {
	defer logs.Asked(ctx, "files", "create", name)(&err)
	if err := ready(ctx, name); err != nil {
		return nil, err
	}
	w, err := f.create(name, mode)
	if errors.Is(err, fs.ErrNotExist) {
		// The folder that is open was taken away by another program, and may be
		// there again.
		f.open.leave()
		w, err = f.create(name, mode)
	}
	return w, err
}

func (f *FS) create(name string, mode fs.FileMode) (io.WriteCloser, error) {
	folder, base := path.Split(files.Raw(name))
	dir, done, err := f.open.enter(f.root, folder)
	if err != nil {
		return nil, missing(err)
	}
	defer done()
	// While it has no owner yet, nobody else may read it.
	file, err := dir.OpenFile(base, os.O_WRONLY|os.O_CREATE|os.O_EXCL, f.first(mode))
	if err != nil {
		return nil, err
	}
	if err := f.settle(file, mode); err != nil {
		file.Close()
		return nil, errors.Join(err, dir.Remove(base))
	}
	return file, nil
}

// first is the mode that a new file begins with.
func (f *FS) first(mode fs.FileMode) fs.FileMode {
	if f.owner != nil {
		return 0o600
	}
	return mode
}

// settle gives a new file its owner, then its mode: the other way round a
// change of owner could take mode bits away.
func (f *FS) settle(file *os.File, mode fs.FileMode) error {
	if f.owner != nil {
		if err := file.Chown(f.owner.user, f.owner.group); err != nil {
			return err
		}
	}
	if first := f.first(mode); first&^f.umask == mode {
		return nil
	}
	return file.Chmod(mode)
}

// Mkdir implements files.FS.
func (f *FS) Mkdir(ctx context.Context, name string, mode fs.FileMode) (err error) {
	defer logs.Asked(ctx, "files", "make folder", name)(&err)
	if err := ready(ctx, name); err != nil {
		return err
	}
	name = files.Raw(name)
	if err := f.root.Mkdir(name, 0o700); err != nil {
		return err
	}
	if f.owner != nil {
		if err := f.root.Lchown(name, f.owner.user, f.owner.group); err != nil {
			return errors.Join(err, f.root.Remove(name))
		}
	}
	return f.root.Chmod(name, mode)
}

// Rename implements files.FS.
func (f *FS) Rename(ctx context.Context, from, to string) (err error) {
	defer logs.Asked(ctx, "files", "move", from, to)(&err)
	if err := ready(ctx, from, to); err != nil {
		return err
	}
	defer f.open.leave()
	return f.rename(files.Raw(from), files.Raw(to))
}

// Chmod implements files.Moder.
func (f *FS) Chmod(ctx context.Context, name string, mode fs.FileMode) (err error) {
	defer logs.Asked(ctx, "files", "set the mode", name)(&err)
	if err := ready(ctx, name); err != nil {
		return err
	}
	defer f.open.leave()
	return missing(f.root.Chmod(files.Raw(name), mode.Perm()))
}

// Remove implements files.FS.
func (f *FS) Remove(ctx context.Context, name string) (err error) {
	defer logs.Asked(ctx, "files", "remove", name)(&err)
	if err := ready(ctx, name); err != nil {
		return err
	}
	defer f.open.leave()
	return missing(f.root.Remove(files.Raw(name)))
}

// RemoveAll implements files.TreeRemover.
func (f *FS) RemoveAll(ctx context.Context, name string) (err error) {
	defer logs.Asked(ctx, "files", "remove all", name)(&err)
	if err := ready(ctx, name); err != nil {
		return err
	}
	defer f.open.leave()
	return f.root.RemoveAll(files.Raw(name))
}

// Free implements files.SpaceTeller.
func (f *FS) Free(ctx context.Context) (_ int64, err error) {
	defer logs.Asked(ctx, "files", "look at the space")(&err)
	if err := ctx.Err(); err != nil {
		return 0, err
	}
	return free(f.root)
}
