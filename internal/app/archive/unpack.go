package archive

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"
	"sync"

	"golang.org/x/sync/errgroup"

	"tivset/internal/hosting/files"
)

// Writing goes on beside decompressing, in a few files at a time.
const (
	writers = 3
	block   = 128 << 10 // files of up to a block are handed over, larger ones streamed
	waiting = 36        // blocks under way at most: 4.5 MB
)

// Unpack writes what is below top in the archive into a folder of an account,
// which must be there. Files get 0644 (0755 when the archive has them
// executable) and folders 0755: what an archive says beyond that is a matter
// of the machine it was packed on. Progress, if not nil, is called with the
// files and bytes written so far, by one goroutine at a time. The account's
// files must be safe for use by several goroutines.
func Unpack(ctx context.Context, file *os.File, top string, skip []string, to files.FS, folder string,
	progress func(files int, bytes int64)) error {
	return Fill(ctx, func(ctx context.Context, each func(Entry, io.Reader) error) error {
		return Walk(ctx, file, top, DefaultLimits, func(e Entry, content io.Reader) error {
			if Skipped(e.Name, skip) {
				return nil
			}
			return each(e, content)
		})
	}, to, folder, progress)
}

// Source calls each for every entry that it has, folders before what is in
// them. The reader is the entry's content, good until each returns.
type Source func(ctx context.Context, each func(Entry, io.Reader) error) error

// Fill writes what a source has into a folder of an account, which must be
// there, as Unpack does.
func Fill(ctx context.Context, from Source, to files.FS, folder string, progress func(files int, bytes int64)) error {
	if tree, ok := to.(files.TreeWriter); ok {
		err := tree.WriteTree(ctx, folder, func(w io.Writer) error { return repack(ctx, from, w, progress) })
		if !errors.Is(err, errors.ErrUnsupported) {
			return err
		}
	}
	if parts, ok := to.(files.PartWriter); ok {
		return parts.WriteParts(ctx, folder, func(open func() (io.WriteCloser, error)) error {
			return repackParts(ctx, from, open, progress)
		})
	}
	group, ctx := errgroup.WithContext(ctx)
	u := &unpacking{to: to, folder: folder, progress: progress, jobs: make(chan handed), made: map[string]*madeOnce{},
		modes:  map[string]fs.FileMode{},
		blocks: sync.Pool{New: func() any { b := make([]byte, block); return &b }}, slots: make(chan struct{}, waiting)}
	for range writersFor(to) {
		group.Go(func() error { return u.writeHanded(ctx) })
	}
	group.Go(func() error {
		defer close(u.jobs)
		return from(ctx, func(e Entry, content io.Reader) error { return u.take(ctx, e, content) })
	})
	return group.Wait()
}

// writersFor is how many files are written at a time.
func writersFor(to files.FS) int {
	if wide, ok := to.(files.Parallel); ok {
		return min(wide.Writers(), waiting)
	}
	return writers
}

type unpacking struct {
	to       files.FS
	folder   string
	progress func(int, int64)
	jobs     chan handed
	blocks   sync.Pool
	slots    chan struct{}

	mu    sync.Mutex
	made  map[string]*madeOnce   // folders
	modes map[string]fs.FileMode // of folders that keep theirs
	count int
	bytes int64
}

// handed is a small file on its way to a writer.
type handed struct {
	Entry
	content *[]byte
}

// take deals with one entry of the archive, in its order.
func (u *unpacking) take(ctx context.Context, e Entry, content io.Reader) error {
	if e.Dir && e.Exact {
		u.mu.Lock()
		u.modes[e.Name] = e.mode()
		u.mu.Unlock()
	}
	buffer := u.blocks.Get().(*[]byte)
	if !e.Dir && e.Size > block {
		defer u.blocks.Put(buffer)
		if err := u.mkdir(ctx, path.Dir(e.Name)); err != nil {
			return err
		}
		return u.write(ctx, e, func(w io.Writer) error { return copyInBlocks(w, content, *buffer) })
	}
	if !e.Dir {
		if _, err := io.ReadFull(content, (*buffer)[:e.Size]); err != nil {
			return err
		}
	}
	select {
	case u.slots <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case u.jobs <- handed{e, buffer}:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// madeOnce is a folder that the first who needs it makes.
type madeOnce struct {
	once sync.Once
	err  error
}

// mkdir makes a folder and those above it, while others make theirs.
func (u *unpacking) mkdir(ctx context.Context, dir string) error {
	if dir == "." {
		return nil
	}
	if err := u.mkdir(ctx, path.Dir(dir)); err != nil {
		return err
	}
	u.mu.Lock()
	m := u.made[dir]
	if m == nil {
		m = &madeOnce{}
		u.made[dir] = m
	}
	mode, exact := u.modes[dir]
	u.mu.Unlock()
	if !exact {
		mode = 0o755
	}
	m.once.Do(func() { _, m.err = files.MkdirAll(ctx, u.to, path.Join(u.folder, dir), mode) })
	return m.err
}

func (u *unpacking) writeHanded(ctx context.Context) error {
	for h := range u.jobs {
		err := u.settle(ctx, h)
		u.blocks.Put(h.content)
		<-u.slots
		if err != nil {
			return err
		}
	}
	return nil
}

// settle makes what was handed over: a folder, or a file in its folder.
func (u *unpacking) settle(ctx context.Context, h handed) error {
	if h.Dir {
		return u.mkdir(ctx, h.Name)
	}
	if err := u.mkdir(ctx, path.Dir(h.Name)); err != nil {
		return err
	}
	return u.write(ctx, h.Entry, func(w io.Writer) error {
		_, err := w.Write((*h.content)[:h.Size])
		return err
	})
}

// mode is what a file or folder gets. Its owner can always work in a folder.
func (e Entry) mode() fs.FileMode {
	switch {
	case e.Exact && e.Dir:
		return e.Mode.Perm() | 0o700
	case e.Exact:
		return e.Mode.Perm()
	case e.Dir:
		return 0o755
	}
	if e.Mode&0o100 != 0 {
		return 0o755
	}
	return 0o644
}

// write makes one file.
func (u *unpacking) write(ctx context.Context, e Entry, fill func(io.Writer) error) error {
	w, err := u.to.Create(ctx, path.Join(u.folder, e.Name), e.mode())
	if err != nil {
		return err
	}
	if err := errors.Join(fill(w), w.Close()); err != nil {
		return err
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	u.count, u.bytes = u.count+1, u.bytes+e.Size
	if u.progress != nil {
		u.progress(u.count, u.bytes)
	}
	return nil
}

// copyInBlocks copies with as few writes as the buffer allows: a decompressor
// gives small pieces.
func copyInBlocks(w io.Writer, r io.Reader, buffer []byte) error {
	for {
		n, err := io.ReadFull(r, buffer)
		if n > 0 {
			if _, err := w.Write(buffer[:n]); err != nil {
				return err
			}
		}
		if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
