package ftp

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"

	"tivset/internal/logs"
)

// settled says whether a new file has its mode already.
func (f *FS) settled(mode fs.FileMode, dir bool) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	usual, known := f.usual[dir]
	return f.plain || known && usual == mode
}

// settle gives something new its mode, unless the server has made it so by
// itself. A server that sets no modes is asked once.
func (f *FS) settle(n *ctrlConn, name string, mode fs.FileMode, dir bool) error {
	f.mu.Lock()
	_, known := f.usual[dir]
	f.mu.Unlock()
	if !known {
		info, err := f.stat(n, name)
		if err != nil {
			return err
		}
		f.mu.Lock()
		f.usual[dir] = info.Mode.Perm()
		f.mu.Unlock()
	}
	if f.settled(mode, dir) {
		return nil
	}
	err := f.chmod(n, name, mode)
	if errors.Is(err, errors.ErrUnsupported) {
		f.mu.Lock()
		f.plain = true
		f.mu.Unlock()
		return nil
	}
	return err
}

// chmod asks the server to set a mode: no standard has that, and most servers do
// (SITE CHMOD).
func (f *FS) chmod(n *ctrlConn, name string, mode fs.FileMode) error {
	err := command(n, fmt.Sprintf("SITE CHMOD %04o %s", mode.Perm(), f.full(name)))
	var said *reply
	if errors.As(err, &said) && (said.code == 500 || said.code == 501 || said.code == 502 || said.code == 504 ||
		said.code == 202) {
		return errors.ErrUnsupported
	}
	return toFSError("set the mode of", name, err)
}

// Chmod implements files.Moder.
func (f *FS) Chmod(ctx context.Context, name string, mode fs.FileMode) (err error) {
	defer logs.Asked(ctx, "files", "set the mode", name)(&err)
	return f.use(ctx, []string{name}, func(n *ctrlConn) error {
		if err := f.folder(n, path.Dir(name)); err != nil {
			return err
		}
		err := f.chmod(n, name, mode)
		if err == nil {
			f.known.changed(name, true)
		}
		return err
	})
}
