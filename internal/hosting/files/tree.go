package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
)

// Exists says whether anything is at name.
func Exists(ctx context.Context, f FS, name string) (bool, error) {
	_, err := f.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, err
}

// How often, and after which pause, a folder is taken away again that somebody is
// writing into: a program of the server's that a cut line has left behind ends soon.
const (
	writtenTries = 20
	writtenPause = 300 * time.Millisecond
)

// RemoveAll takes away name and all below it; nothing there is fine. Where somebody
// writes into it meanwhile it is tried for a while.
func RemoveAll(ctx context.Context, f FS, name string) error {
	for try := 1; ; try++ {
		err := removeAll(ctx, f, name)
		if err == nil || try == writtenTries || !changedMeanwhile(err) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(writtenPause):
		}
	}
}

// changedMeanwhile says whether an error comes from somebody else's hand in a folder:
// it was not empty any more when it went, or a part of it had gone. FTP servers say
// neither in words of their own.
func changedMeanwhile(err error) bool {
	return errors.Is(err, fs.ErrNotExist) || strings.Contains(strings.ToLower(err.Error()), "not empty")
}

func removeAll(ctx context.Context, f FS, name string) error {
	if t, ok := f.(TreeRemover); ok {
		return t.RemoveAll(ctx, name)
	}
	info, err := f.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	if info.IsDir() {
		if err := empty(ctx, f, name); err != nil {
			return err
		}
	}
	return f.Remove(ctx, name)
}

// empty takes away all that is in a folder: first the files, over a long line
// many at a time, then the folders, innermost first.
func empty(ctx context.Context, f FS, name string) error {
	all, err := Tree(ctx, f, name, nil)
	if err != nil {
		return err
	}
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(1)
	if w, ok := f.(Parallel); ok {
		group.SetLimit(w.Writers())
	}
	for _, found := range all {
		if !found.IsDir() {
			group.Go(func() error { return f.Remove(within, found.Path) })
		}
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for _, found := range slices.Backward(all) {
		if found.IsDir() {
			if err := f.Remove(ctx, found.Path); err != nil {
				return err
			}
		}
	}
	return nil
}

// MkdirAll makes a folder and those above it that are missing, each with mode,
// and returns the topmost that it made ("" for none).
func MkdirAll(ctx context.Context, f FS, name string, mode fs.FileMode) (made string, err error) {
	for range comeAndGo {
		if made, err = mkdirAll(ctx, f, name, mode); !errors.Is(err, errGone) && !errors.Is(err, fs.ErrNotExist) {
			break
		}
	}
	return made, err
}

// comeAndGo is how often a folder is made again that others, who found it empty, took away.
const comeAndGo = 5

// errGone means that a folder was there, and then was not.
var errGone = errors.New("it was there and went")

func mkdirAll(ctx context.Context, f FS, name string, mode fs.FileMode) (made string, err error) {
	if name == "." {
		return "", nil
	}
	err = f.Mkdir(ctx, name, mode)
	if errors.Is(err, fs.ErrNotExist) {
		if made, err = mkdirAll(ctx, f, path.Dir(name), mode); err != nil {
			return made, err
		}
		err = f.Mkdir(ctx, name, mode)
	}
	if err == nil && made == "" {
		return name, nil
	}
	if errors.Is(err, fs.ErrExist) {
		info, statErr := f.Stat(ctx, name)
		if errors.Is(statErr, fs.ErrNotExist) {
			return made, fmt.Errorf("%w: %w", errGone, err)
		}
		if statErr != nil || !info.IsDir() {
			return made, err
		}
		return made, nil
	}
	return made, err
}

// Write makes a new file of content.
func Write(ctx context.Context, f FS, name string, content []byte, mode fs.FileMode) error {
	w, err := f.Create(ctx, name, mode)
	if err != nil {
		return err
	}
	if _, err := w.Write(content); err != nil {
		w.Close()
		return err
	}
	return w.Close()
}

// TooLong is the error of a file that is read whole, and has more bytes than that is good for.
type TooLong struct {
	Name  string
	Limit int64
}

// Error names the file and the limit.
func (t *TooLong) Error() string { return fmt.Sprintf("%s has more than %d bytes", t.Name, t.Limit) }

// Read gives a file's content; *TooLong for a file of more than limit bytes.
func Read(ctx context.Context, f FS, name string, limit int64) ([]byte, error) {
	r, err := f.Open(ctx, name)
	if err != nil {
		return nil, err
	}
	defer r.Close()
	content, err := io.ReadAll(io.LimitReader(r, limit+1))
	if err == nil && int64(len(content)) > limit {
		return nil, &TooLong{name, limit}
	}
	return content, err
}

// Count adds up the files below a folder and their bytes. Folders in skip are
// passed over.
func Count(ctx context.Context, f FS, name string, skip func(name string) bool) (files int, bytes int64, err error) {
	var mu sync.Mutex
	err = Below(ctx, f, name, skip, func(_ string, i Info) {
		mu.Lock()
		defer mu.Unlock()
		if !i.IsDir() {
			files, bytes = files+1, bytes+i.Size
		}
	})
	return files, bytes, err
}

// Found is something in an account, with its whole name.
type Found struct {
	Path string
	Info
}

// Tree lists all that is below a folder, sorted, folders before what is in
// them. What skip names is passed over.
func Tree(ctx context.Context, f FS, name string, skip func(name string) bool) ([]Found, error) {
	var mu sync.Mutex
	var out []Found
	err := Below(ctx, f, name, skip, func(full string, i Info) {
		mu.Lock()
		defer mu.Unlock()
		out = append(out, Found{full, i})
	})
	slices.SortFunc(out, func(a, b Found) int { return strings.Compare(a.Path, b.Path) })
	return out, err
}

// Whole lists what has a name, and all that is below it: a file is listed alone, and
// nothing where nothing is there.
func Whole(ctx context.Context, f FS, name string) ([]Found, error) {
	info, err := f.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	all := []Found{{Path: name, Info: info}}
	if err != nil || !info.IsDir() {
		return all, err
	}
	below, err := Tree(ctx, f, name, nil)
	return append(all, below...), err
}

// Below calls each for all that is below a folder, in no order. What skip names
// is passed over. Over a long line many folders are listed at a time, and each
// may be called by several goroutines at once.
func Below(ctx context.Context, f FS, name string, skip func(name string) bool, each func(full string, i Info)) error {
	w := &walker{f: f, skip: skip, each: each}
	w.group, ctx = errgroup.WithContext(ctx)
	w.group.SetLimit(1)
	if wide, ok := f.(Parallel); ok {
		w.group.SetLimit(wide.Writers())
	}
	return errors.Join(w.folder(ctx, name), w.group.Wait())
}

type walker struct {
	f     FS
	skip  func(string) bool
	each  func(string, Info)
	group *errgroup.Group
}

func (w *walker) folder(ctx context.Context, name string) error {
	inside, err := w.f.List(ctx, name)
	if err != nil {
		return err
	}
	for _, i := range inside {
		full := path.Join(name, i.Name)
		if w.skip != nil && w.skip(full) {
			continue
		}
		w.each(full, i)
		if i.IsDir() && !w.group.TryGo(func() error { return w.folder(ctx, full) }) { // all are busy
			if err := w.folder(ctx, full); err != nil {
				return err
			}
		}
	}
	return nil
}
