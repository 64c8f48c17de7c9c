package ftp

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"path"

	"golang.org/x/sync/errgroup"

	"tivset/internal/hosting/files"
	"tivset/internal/logs"
)

// small is up to what size a file waits in memory until it is sent; a larger
// one waits in a temporary file. A connection that is lost can then be made
// again, and the file be sent again.
const small = 256 << 10

// Create implements files.FS. The file is sent when it is closed.
func (f *FS) Create(ctx context.Context, name string, mode fs.FileMode) (_ io.WriteCloser, err error) {
	defer logs.Asked(ctx, "files", "create", name)(&err)
	err = f.use(ctx, []string{name}, func(n *ctrlConn) error { return f.free(n, name) })
	if err != nil {
		return nil, err
	}
	f.known.changed(name, true)
	return &sending{ctx: ctx, to: f, name: name, mode: mode}, nil
}

// free makes sure that nothing is at name. In a folder made here it is known
// without asking.
func (f *FS) free(n *ctrlConn, name string) error {
	if err := f.folder(n, path.Dir(name)); err != nil {
		return err
	}
	if f.known.isFree(name) {
		return nil
	}
	return f.absent(n, "create", name)
}

// sending is a file that is being written.
type sending struct {
	ctx  context.Context
	to   *FS
	name string
	mode fs.FileMode

	memory bytes.Buffer
	spill  *os.File
}

func (s *sending) Write(p []byte) (int, error) {
	if s.spill == nil && s.memory.Len()+len(p) <= small {
		return s.memory.Write(p)
	}
	if s.spill == nil {
		var err error
		if s.spill, err = os.CreateTemp("", "tivset-send-"); err != nil {
			return 0, err
		}
		_ = os.Remove(s.spill.Name()) // it goes with its last user
		if _, err := s.memory.WriteTo(s.spill); err != nil {
			return 0, err
		}
	}
	return s.spill.Write(p)
}

// Close sends the file.
func (s *sending) Close() error {
	if s.spill != nil {
		defer s.spill.Close()
	}
	err := s.to.use(s.ctx, []string{s.name}, func(n *ctrlConn) error {
		if err := n.upload(s.to.full(s.name), s.content()); err != nil {
			return s.refused(n, err)
		}
		return nil
	})
	if err != nil || s.to.settled(s.mode, false) {
		return err
	}
	// A call of its own: servers that hang up after each file must not be sent
	// the file again for its mode.
	return s.to.use(s.ctx, nil, func(n *ctrlConn) error { return s.to.settle(n, s.name, s.mode, false) })
}

func (s *sending) content() io.Reader {
	if s.spill == nil {
		return bytes.NewReader(s.memory.Bytes())
	}
	return io.NewSectionReader(s.spill, 0, 1<<62)
}

// refused words why a file could not be written, and takes away what of it
// may be there.
func (s *sending) refused(n *ctrlConn, err error) error {
	worded := toFSError("write", s.name, err)
	if lost(err) {
		return err
	}
	_ = command(n, "DELE "+s.to.full(s.name))
	s.to.known.changed(s.name, false)
	if errors.Is(worded, fs.ErrNotExist) {
		s.to.known.forgetWay(s.name) // others may have taken its folder away
		if gone := s.to.folder(n, path.Dir(s.name)); gone != nil {
			return gone
		}
		return &fs.PathError{Op: "write", Path: s.name, Err: errors.Join(fs.ErrPermission, err)}
	}
	return worded
}

// RemoveAll implements files.TreeRemover: folders are listed, and emptied with
// many commands under way at once.
func (f *FS) RemoveAll(ctx context.Context, name string) (err error) {
	defer logs.Asked(ctx, "files", "remove all", name)(&err)
	var is *files.Info
	err = f.use(ctx, []string{name}, func(n *ctrlConn) error {
		if err := f.folder(n, path.Dir(name)); err != nil {
			if errors.Is(err, fs.ErrNotExist) {
				return nil
			}
			return err
		}
		info, err := f.look(n, name)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		is = &info
		if info.IsDir() {
			return nil
		}
		return toFSError("remove", name, command(n, "DELE "+f.full(name)))
	})
	if err != nil || is == nil {
		return err
	}
	defer f.gone(name)
	if !is.IsDir() {
		return nil
	}
	return f.removeTree(ctx, name)
}

// removeTree empties a folder and takes it away; the folders in it at the same
// time, as far as there are connections.
func (f *FS) removeTree(ctx context.Context, name string) error {
	var folders []string
	err := f.pool.use(ctx, func(n *ctrlConn) error {
		folders = nil
		all, err := f.list(n, name)
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		var plainFiles []string
		for _, i := range all {
			if full := path.Join(name, i.Name); i.IsDir() {
				folders = append(folders, full)
			} else {
				plainFiles = append(plainFiles, full)
			}
		}
		return f.removeFiles(n, plainFiles)
	})
	if err != nil {
		return err
	}
	group, inside := errgroup.WithContext(ctx)
	group.SetLimit(lines)
	for _, folder := range folders {
		group.Go(func() error { return f.removeTree(inside, folder) })
	}
	if err := group.Wait(); err != nil {
		return err
	}
	asked := false
	return f.pool.use(ctx, func(n *ctrlConn) error {
		again := asked
		asked = true
		err := toFSError("remove", name, command(n, "RMD "+f.full(name)))
		if again && errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	})
}

// atOnce is how many commands are sent before their replies are read; their
// text fits into what the network holds.
const atOnce = 50

func (f *FS) removeFiles(n *ctrlConn, names []string) error {
	for len(names) > 0 {
		now := names[:min(len(names), atOnce)]
		names = names[len(now):]
		n.within(replyTime)
		for _, name := range now {
			if err := n.send("DELE " + f.full(name)); err != nil {
				return err
			}
		}
		var first error
		for _, name := range now {
			if _, err := n.expect(2); err != nil {
				if lost(err) {
					return err
				}
				if worded := toFSError("remove", name, err); first == nil && !errors.Is(worded, fs.ErrNotExist) {
					first = worded
				}
			}
		}
		if first != nil {
			return first
		}
	}
	return nil
}
