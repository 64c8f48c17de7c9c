package step

import (
	"archive/tar"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"tivset/internal/hosting/files"
)

// Written is a folder, or a file, in which the app writes: where it is while the
// site is open, and where while it is closed.
type Written struct {
	Open string `json:"open"`
	Shut string `json:"shut"`
}

// KeepFiles keeps what the app has written into its folders before a new release
// may change it; and puts it back. Ahead, while the site is
// open, it copies all; once the site is closed, what has changed since.
type KeepFiles struct {
	*Tools    `json:"-"`
	UndoStore           // beside it lies what was copied ahead, and the list of all
	Folders   []Written `json:"folders"`
	Ahead     bool      `json:"ahead,omitempty"`

	unchanged bool
	made      map[string]bool // folders for what is put aside
}

// KeptFiles makes the two steps that keep what the app has written; none where it
// writes nowhere.
func KeptFiles(t *Tools, folders []Written) (ahead, last *KeepFiles) {
	var outer []Written
	for _, w := range folders {
		within := func(o Written) bool { return o != w && files.Within(w.Open, o.Open) }
		if !slices.ContainsFunc(folders, within) && !slices.Contains(outer, w) {
			outer = append(outer, w)
		}
	}
	if len(outer) == 0 {
		return nil, nil
	}
	return &KeepFiles{Tools: t, Folders: outer, Ahead: true, UndoStore: t.keptFiles()},
		&KeepFiles{Tools: t, Folders: outer, UndoStore: t.keptFiles()}
}

// keptFile is one file, or folder, as it was.
type keptFile struct {
	Folder   int         `json:"folder"` // of KeepFiles.Folders
	Name     string      `json:"name"`   // below it, "." for itself
	Mode     fs.FileMode `json:"mode"`
	Bytes    int64       `json:"bytes"`
	Modified time.Time   `json:"modified"`
	Ahead    bool        `json:"ahead,omitempty"` // its content was copied ahead
}

func (k keptFile) id() string { return fmt.Sprintf("%d/%s", k.Folder, k.Name) }

// moment is how exactly file servers tell when a file was changed (RFC 3659,
// 2.3; SFTP draft 02, 5): of one that was changed just before it was listed
// nobody can tell whether it was changed again.
const moment = 2 * time.Second

// Kind and Title implement job.Step.
func (*KeepFiles) Kind() string { return "keep-files" }
func (k *KeepFiles) Title() string {
	if k.Ahead {
		return "Keep what the site has written"
	}
	return "Keep what it has written since"
}

func (k *KeepFiles) ahead() UndoStore { return k.beside(".ahead") }

func listOf(s UndoStore) UndoStore { return s.beside(".list") }

// Unchanged implements job.Snapshotter.
func (k *KeepFiles) Unchanged() { k.unchanged = true }

// Do copies what is to be copied, and then writes the list of all.
func (k *KeepFiles) Do(ctx context.Context) error {
	now, err := k.listed(ctx, !k.Ahead)
	if err != nil {
		return err
	}
	to, before := k.ahead(), map[string]keptFile{}
	if !k.Ahead {
		to = k.UndoStore
		if before, err = k.readKept(ctx, listOf(k.ahead())); err != nil {
			return err
		}
	}
	var copied []int
	for i := range now {
		old, known := before[now[i].id()]
		now[i].Ahead = known && old.Bytes == now[i].Bytes && old.Modified.Equal(now[i].Modified) && old.Ahead
		if now[i].Mode.IsRegular() && !now[i].Ahead {
			copied = append(copied, i)
		}
	}
	if err := k.copyTo(ctx, to, now, copied); err != nil {
		return err
	}
	if k.Ahead { // whose content is certain
		latest := k.Now().Add(-moment)
		for i := range now {
			now[i].Ahead = now[i].Mode.IsRegular() && now[i].Modified.Before(latest)
		}
	}
	text, err := json.Marshal(now)
	if err != nil {
		return err
	}
	return listOf(to).write(ctx, k.In, text)
}

// listed lists what is in the folders.
func (k *KeepFiles) listed(ctx context.Context, shut bool) ([]keptFile, error) {
	var out []keptFile
	for n, w := range k.Folders {
		at := w.Open
		if shut {
			at = w.Shut
		}
		all, err := files.Whole(ctx, k.In.Files, at)
		if err != nil {
			return nil, err
		}
		for _, f := range all {
			if !f.Mode.IsRegular() && !f.IsDir() {
				continue
			}
			name := strings.TrimPrefix(strings.TrimPrefix(f.Path, at), "/")
			out = append(out, keptFile{Folder: n, Name: path.Clean(name), Mode: f.Mode, Bytes: f.Size, Modified: f.Modified})
		}
	}
	return out, nil
}

// where gives where a kept file is.
func (k *KeepFiles) where(f keptFile, shut bool) string {
	if shut {
		return path.Join(k.Folders[f.Folder].Shut, f.Name)
	}
	return path.Join(k.Folders[f.Folder].Open, f.Name)
}

// copyTo writes the content of some of the files into an archive.
func (k *KeepFiles) copyTo(ctx context.Context, to UndoStore, all []keptFile, copied []int) error {
	return to.pack(ctx, k.In, func(packed io.Writer) error { return k.tarTo(ctx, packed, all, copied) })
}

func (k *KeepFiles) tarTo(ctx context.Context, to io.Writer, all []keptFile, copied []int) error {
	w := tar.NewWriter(to)
	list, of := make([]files.Found, len(copied)), map[string]int{}
	for n, i := range copied {
		name := k.where(all[i], !k.Ahead)
		list[n], of[name] = files.Found{Path: name, Info: files.Info{Mode: all[i].Mode, Size: all[i].Bytes}}, i
	}
	done := 0
	err := files.ReadAll(ctx, k.In.Files, list, func(f files.Found, content io.Reader) error {
		done++
		k.Count(int64(done), int64(len(list)), "files")
		i := of[f.Path]
		all[i].Bytes = f.Size
		h := &tar.Header{Name: all[i].id(), Mode: 0o600, Size: f.Size, Format: tar.FormatPAX}
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		n, err := io.Copy(w, io.LimitReader(content, f.Size))
		if err == nil && n < f.Size { // it became shorter: as it is listed, it will be copied again
			_, err = w.Write(make([]byte, f.Size-n))
		}
		return err
	})
	return errors.Join(err, w.Close())
}

// readKept reads a list; none for one that is not there.
func (k *KeepFiles) readKept(ctx context.Context, list UndoStore) (map[string]keptFile, error) {
	text, err := list.read(ctx, k.In)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var all []keptFile
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	out := map[string]keptFile{}
	for _, f := range all {
		out[f.id()] = f
	}
	return out, err
}

// Undo puts back what has changed since; what came to be there is kept in the
// account, and named.
func (k *KeepFiles) Undo(ctx context.Context) error {
	if k.Ahead {
		return errors.Join(k.ahead().clear(ctx, k.In), listOf(k.ahead()).clear(ctx, k.In))
	}
	if _, err := listOf(k.UndoStore).there(ctx, k.Tools); err != nil {
		return err
	}
	if before, err := k.readKept(ctx, listOf(k.UndoStore)); err != nil {
		return err
	} else if before != nil && !k.unchanged {
		if err := k.putBack(ctx, before); err != nil {
			return fmt.Errorf("put back what the site had written, from %s: %w", k.File, err)
		}
	}
	return errors.Join(k.clear(ctx, k.In), listOf(k.UndoStore).clear(ctx, k.In))
}

func (k *KeepFiles) putBack(ctx context.Context, before map[string]keptFile) error {
	k.made = map[string]bool{}
	at, err := listOf(k.UndoStore).written(ctx, k.In)
	if err != nil {
		return err
	}
	now, err := k.listed(ctx, true)
	if err != nil {
		return err
	}
	for _, f := range slices.Backward(now) { // what is in a folder comes after it
		old, known := before[f.id()]
		if known && old.Mode == f.Mode && (f.Mode.IsDir() || old.Bytes == f.Bytes && old.Modified.Equal(f.Modified) &&
			certain(f, at)) {
			delete(before, f.id()) // as it was
			continue
		}
		if f.Mode.IsDir() && !known {
			if k.In.Files.Remove(ctx, k.where(f, true)) == nil {
				continue // nothing is in it
			}
		}
		if f.Mode.IsDir() {
			delete(before, f.id())
			continue
		}
		if err := k.setAside(ctx, f); err != nil {
			return err
		}
	}
	return k.restore(ctx, before)
}

// certain says whether a file's time tells that it was not changed again after it
// was listed: times in whole seconds do not, of a file that was changed just
// before.
func certain(f keptFile, listed time.Time) bool {
	return f.Modified.Nanosecond() != 0 || f.Modified.Before(listed.Add(-moment))
}

// setAside keeps what is put back over, in the account.
func (k *KeepFiles) setAside(ctx context.Context, f keptFile) error {
	folder := k.Store().Aside(k.Job + "-replaced")
	to := path.Join(folder, k.Folders[f.Folder].Open, f.Name)
	if !k.made[path.Dir(to)] {
		if _, err := files.MkdirAll(ctx, k.In.Files, path.Dir(to), 0o700); err != nil {
			return err
		}
		k.made[path.Dir(to)] = true
	}
	if !slices.Contains(k.Result.Replaced, folder) {
		k.Result.Replaced = append(k.Result.Replaced, folder)
	}
	for n, name := 2, to; ; n++ {
		err := k.In.Files.Rename(ctx, k.where(f, true), name)
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
		name = fmt.Sprintf("%s-%d", to, n)
	}
}

// restore writes what was there and is not.
func (k *KeepFiles) restore(ctx context.Context, gone map[string]keptFile) error {
	var folders []keptFile
	for _, f := range gone {
		if f.Mode.IsDir() {
			folders = append(folders, f)
		}
	}
	slices.SortFunc(folders, func(a, b keptFile) int { return strings.Compare(a.id(), b.id()) })
	for _, f := range folders {
		if err := k.In.Files.Mkdir(ctx, k.where(f, true), f.Mode.Perm()); err != nil && !errors.Is(err, fs.ErrExist) {
			return err
		}
	}
	for _, ahead := range []bool{true, false} {
		from := k.UndoStore
		if ahead {
			from = k.ahead()
		}
		if err := k.restoreFrom(ctx, from, gone, ahead); err != nil {
			return err
		}
	}
	return nil
}

func (k *KeepFiles) restoreFrom(ctx context.Context, from UndoStore, gone map[string]keptFile, ahead bool) error {
	if _, err := from.written(ctx, k.In); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return from.unpack(ctx, k.In, func(plain io.Reader) error {
		for r := tar.NewReader(plain); ; {
			h, err := r.Next()
			if errors.Is(err, io.EOF) {
				return nil
			}
			if err != nil {
				return err
			}
			f, wanted := gone[h.Name]
			if !wanted || f.Ahead != ahead || !f.Mode.IsRegular() {
				continue
			}
			if err := k.writeAgain(ctx, f, r); err != nil {
				return err
			}
		}
	})
}

// writeAgain writes a file that was kept, over one that an undo wrote which was
// cut off, perhaps half.
func (k *KeepFiles) writeAgain(ctx context.Context, f keptFile, content io.Reader) error {
	name := k.where(f, true)
	if err := files.Drop(ctx, k.In.Files, name); err != nil {
		return err
	}
	to, err := k.In.Files.Create(ctx, name, f.Mode.Perm())
	if err != nil {
		return err
	}
	_, err = io.Copy(to, content)
	return errors.Join(err, to.Close())
}
