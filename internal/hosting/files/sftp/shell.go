package sftp

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"strings"

	"golang.org/x/sync/errgroup"

	"tivset/internal/hosting/files"
	"tivset/internal/hosting/ssh"
	"tivset/internal/logs"
)

// What a shell on the server makes faster. Where there is none, or one that
// only pretends, everything goes over SFTP.

var (
	_ files.TreeWriter  = (*FS)(nil)
	_ files.TreeRemover = (*FS)(nil)
)

// hasShell says whether programs can be run: the shell says words back. What
// only pretends says others.
func (l *line) hasShell(ctx context.Context) bool {
	l.shellOnce.Do(func() {
		out, err := ssh.Run(ctx, l.conn, nil, "sh", "-c",
			"tar --version >/dev/null 2>&1 && printf 'tar and '; printf 'a shell'")
		l.shell, l.tar = err == nil && strings.HasSuffix(out, "a shell"), out == "tar and a shell"
	})
	return l.shell
}

// WriteTree implements files.TreeWriter: one stream, unpacked by the server's
// tar, which keeps the modes and nobody's ownership.
func (f *FS) WriteTree(ctx context.Context, folder string, tarred func(io.Writer) error) (err error) {
	defer logs.Asked(ctx, "files", "unpack into", folder)(&err)
	return f.use(ctx, false, []string{folder}, func(l *line) error {
		if !l.hasShell(ctx) || !l.tar {
			return errors.ErrUnsupported
		}
		if err := l.folder(folder); err != nil {
			return err
		}
		r, w := io.Pipe()
		made := make(chan error, 1)
		go func() {
			err := tarred(w)
			_ = w.CloseWithError(err)
			made <- err
		}()
		_, err := ssh.Run(ctx, l.conn, r, "tar", "-xpozf", "-", "-C", l.full(folder))
		_ = r.CloseWithError(err) // the server gave up: so does the stream
		if packed := <-made; packed != nil && !errors.Is(packed, io.ErrClosedPipe) && err == nil {
			return packed
		}
		defer l.forget()
		return err
	})
}

// RemoveAll implements files.TreeRemover.
func (f *FS) RemoveAll(ctx context.Context, name string) (err error) {
	defer logs.Asked(ctx, "files", "remove all", name)(&err)
	return f.use(ctx, false, []string{name}, func(l *line) error {
		err := l.folder(path.Dir(name))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		defer l.forget()
		info, err := l.sftp.Lstat(l.full(name))
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return plain("remove", name, err)
		}
		if info.IsDir() && l.hasShell(ctx) {
			_, err := ssh.Run(ctx, l.conn, nil, "rm", "-rf", "--", l.full(name))
			return err
		}
		return l.removeTree(ctx, name, info.IsDir())
	})
}

// removeTree takes a folder away from its leaves, several calls at a time.
func (l *line) removeTree(ctx context.Context, name string, folder bool) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if !folder {
		return gone(name, l.sftp.Remove(l.full(name)))
	}
	inside, err := l.sftp.ReadDirContext(ctx, l.full(name))
	if err != nil {
		return gone(name, err)
	}
	group, within := errgroup.WithContext(ctx)
	group.SetLimit(writers)
	for _, i := range inside {
		if !i.IsDir() {
			group.Go(func() error { return l.removeTree(within, path.Join(name, files.Escape(i.Name())), false) })
		}
	}
	if err := group.Wait(); err != nil {
		return err
	}
	for _, i := range inside {
		if i.IsDir() {
			if err := l.removeTree(ctx, path.Join(name, files.Escape(i.Name())), true); err != nil {
				return err
			}
		}
	}
	return gone(name, l.sftp.RemoveDirectory(l.full(name)))
}

// gone takes it for done when what is to go is not there.
func gone(name string, err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return plain("remove", name, err)
}
