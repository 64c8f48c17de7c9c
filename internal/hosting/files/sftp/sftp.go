// Package sftp reaches an account's files over SFTP
// (draft-ietf-secsh-filexfer-02, which is what servers speak), and runs
// programs beside them where the server has a shell.
//
// Names never lead out of the account: a folder is used only after the server
// said where it really is.
package sftp

import (
	"cmp"
	"context"
	"errors"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/pkg/sftp"
	xssh "golang.org/x/crypto/ssh"

	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/ssh"
	"tivset/internal/logs"
)

// FS is the files below a folder of a server.
type FS struct {
	client *ssh.Client
	top    string

	mu     sync.Mutex
	line   *line
	closed bool
}

// line is one connection, with what was found out over it.
type line struct {
	conn *xssh.Client
	sftp *sftp.Client
	top  string // where the top really is
	root bool   // whether root is signed in, who reaches all there is

	mu     sync.Mutex
	inside map[string]time.Time // folders that are known to be inside of the account

	newFile, newFolder fs.FileMode // what the server's umask makes of new ones; 0 while unknown

	shellOnce  sync.Once
	shell, tar bool // whether the server runs programs, and has tar
}

var (
	_ files.FS        = (*FS)(nil)
	_ files.Parallel  = (*FS)(nil)
	_ files.Commander = (*FS)(nil)

	_ files.SpaceTeller = (*FS)(nil)
)

// writers is with how many files at a time a line of 50 ms is kept full; more
// make it slower.
const writers = 32

// Open signs in and makes sure that the account's folder is there. The connection is
// shared with others who use the client; of its sessions one is this one's own.
func Open(ctx context.Context, client *ssh.Client, top string) (*FS, error) {
	client.Hold()
	f := &FS{client: client, top: top}
	_, err := f.connect(ctx)
	if err != nil {
		_ = f.Close() // what went wrong is known
		return nil, err
	}
	return f, nil
}

// Close ends the session, and the connection with the last one that uses it.
func (f *FS) Close() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.closed {
		return nil
	}
	f.closed = true
	if f.line != nil {
		_ = f.line.sftp.Close() // one that was lost is closed
		f.line = nil
	}
	return f.client.Close()
}

// Writers implements files.Wide.
func (f *FS) Writers() int { return writers }

// LoginFolder gives the folder, from the server's root, in which one is after signing in.
func (f *FS) LoginFolder(ctx context.Context) (folder string, err error) {
	err = f.use(ctx, true, nil, func(l *line) error {
		folder, err = l.sftp.Getwd()
		return plain("ask for", "the login folder", err)
	})
	return folder, err
}

// Free implements files.SpaceTeller, where the server tells (OpenSSH's
// extension statvfs@openssh.com).
func (f *FS) Free(ctx context.Context) (free int64, err error) {
	defer logs.Asked(ctx, "files", "look at the space")(&err)
	err = f.use(ctx, true, nil, func(l *line) error {
		told, err := l.sftp.StatVFS(l.top)
		if err == nil {
			free = int64(told.Frsize * told.Bavail)
		}
		return plain("ask for the space of", ".", err)
	})
	return free, err
}

// Command implements files.Commander.
func (f *FS) Command(ctx context.Context, folder string, args []string, input string) (_ []byte, err error) {
	defer logs.Asked(ctx, "files", "run a program", folder, args[0])(&err)
	if err := files.Valid(folder); err != nil {
		return nil, err
	}
	conn, err := f.client.Conn(ctx)
	if err != nil {
		return nil, err
	}
	there := []string{"sh", "-c", `cd -- "$1" && shift && exec "$@"`, "sh", path.Join(f.top, files.Raw(folder))}
	out, err := ssh.Run(ctx, conn, strings.NewReader(input), append(there, args...)...)
	return []byte(out), err
}

// full says whether the server has as many sessions of one connection as it
// allows (sshd_config(5), MaxSessions): those that were let go end a little later.
func full(err error) bool {
	var refused *xssh.OpenChannelError
	return errors.As(err, &refused)
}

// connect gives the line, made anew if it was lost.
func (f *FS) connect(ctx context.Context) (*line, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	conn, err := f.client.Conn(ctx)
	if err != nil {
		return nil, err
	}
	if f.line != nil && f.line.conn == conn {
		return f.line, nil
	}
	c, err := sftp.NewClient(conn, sftp.UseConcurrentWrites(true))
	for n := 0; full(err) && n < 20; n++ {
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(250 * time.Millisecond):
		}
		c, err = sftp.NewClient(conn, sftp.UseConcurrentWrites(true))
	}
	if err != nil {
		f.client.Lost(conn)
		return nil, fault.New(fault.Failed, "the server offers no SFTP", f.top,
			"Ask the host to switch SFTP on for this user.").Wrap(err)
	}
	top, err := c.RealPath(f.top)
	if err != nil {
		return nil, fault.New(fault.Failed, "the account's folder is not there", f.top,
			"Correct the folder in files: of the account.").Wrap(err)
	}
	if info, err := c.Stat(top); err != nil || !info.IsDir() {
		return nil, fault.New(fault.Failed, "the account's folder is not there", f.top,
			"Correct the folder in files: of the account.").Wrap(err)
	}
	f.line = &line{conn: conn, sftp: c, top: top, root: conn.User() == "root", inside: map[string]time.Time{}}
	return f.line, nil
}

// use runs a call on the line. When the line is lost, what only reads is done
// again on a new one; what changes something may have happened, and so its
// error comes back, for the job's undo to look.
func (f *FS) use(ctx context.Context, reads bool, names []string, call func(*line) error) error {
	for _, n := range names {
		if err := files.Valid(n); err != nil {
			return err
		}
	}
	for try := 0; ; try++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		l, err := f.connect(ctx)
		if err != nil {
			return err
		}
		err = call(l)
		if !lost(err) {
			return err
		}
		f.client.Lost(l.conn)
		if !reads || try == 2 {
			return fault.New(fault.Failed, "the connection was lost", f.top, "Try again.").Wrap(err)
		}
	}
}

func lost(err error) bool {
	return errors.Is(err, sftp.ErrSSHFxConnectionLost) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
}

func (l *line) full(name string) string { return path.Join(l.top, files.Raw(name)) }

var errLeadsOut = errors.New("it leads out of the account")

// within says whether a folder, as the server says that it really is, is the account's.
func (l *line) within(real string) bool {
	return real == l.top || strings.HasPrefix(real, strings.TrimSuffix(l.top, "/")+"/")
}

// folder makes sure that a folder is inside of the account, whatever links are
// on the way.
func (l *line) folder(name string) error {
	l.mu.Lock()
	looked, known := l.inside[name]
	l.mu.Unlock()
	if known && time.Since(looked) < insideFor {
		return nil
	}
	real, err := l.sftp.RealPath(l.full(name))
	if err != nil {
		return plain("find", name, err)
	}
	if !l.within(real) {
		return &fs.PathError{Op: "use", Path: name, Err: errLeadsOut}
	}
	info, err := l.sftp.Stat(real)
	if err != nil {
		return plain("find", name, err)
	}
	if !info.IsDir() {
		return &fs.PathError{Op: "find", Path: name, Err: fs.ErrNotExist}
	}
	l.mu.Lock()
	l.inside[name] = time.Now()
	l.mu.Unlock()
	return nil
}

// insideFor is for how long a folder that was looked at counts as being inside: a program on the site may exchange it
// for a link at any time.
const insideFor = time.Second

// forget drops what is known of folders: something was moved or went.
func (l *line) forget() {
	l.mu.Lock()
	l.inside = map[string]time.Time{}
	l.mu.Unlock()
}

// plain gives an error the words of package fs, and no path of the server.
func plain(op, name string, err error) error {
	if err == nil || lost(err) {
		return err
	}
	var status *sftp.StatusError
	cause := err
	switch {
	case errors.Is(err, fs.ErrNotExist):
		cause = fs.ErrNotExist
	case errors.Is(err, fs.ErrPermission):
		cause = fs.ErrPermission
	case errors.As(err, &status):
		cause = errors.New("the server says: " + strings.TrimPrefix(status.Error(), "sftp: "))
	}
	return &fs.PathError{Op: op, Path: name, Err: cause}
}

// unclear is how often something is tried that a server refuses without a reason: others may
// have made and taken away what was in the way.
const unclear = 3

// failure says whether a server gave no reason.
func failure(err error) bool {
	var about *fs.PathError
	return errors.As(err, &about) && !errors.Is(err, fs.ErrExist) && !errors.Is(err, fs.ErrNotExist) &&
		!errors.Is(err, fs.ErrPermission)
}

// taken tells a failure without a reason from one because of what is there:
// servers give both the same number.
func (l *line) taken(op, name string, err error) error {
	if err == nil || lost(err) || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return plain(op, name, err)
	}
	if _, statErr := l.sftp.Lstat(l.full(name)); statErr == nil {
		return &fs.PathError{Op: op, Path: name, Err: fs.ErrExist}
	}
	return plain(op, name, err)
}

func describe(i fs.FileInfo) files.Info {
	info := files.Info{Name: files.Escape(i.Name()), Mode: i.Mode(), Modified: i.ModTime()}
	if i.Mode().IsRegular() {
		info.Size = i.Size()
	}
	return info
}

// Stat implements files.FS.
func (f *FS) Stat(ctx context.Context, name string) (info files.Info, err error) {
	defer logs.Asked(ctx, "files", "look at", name)(&err)
	err = f.use(ctx, true, []string{name}, func(l *line) error {
		if err := l.folder(path.Dir(name)); err != nil {
			return err
		}
		i, err := l.sftp.Lstat(l.full(name))
		if err == nil {
			info = describe(i)
		}
		return plain("find", name, err)
	})
	return info, err
}

// List implements files.FS.
func (f *FS) List(ctx context.Context, name string) (out []files.Info, err error) {
	defer logs.Asked(ctx, "files", "list", name)(&err)
	err = f.use(ctx, true, []string{name}, func(l *line) error {
		if err := l.folder(name); err != nil {
			return err
		}
		entries, err := l.sftp.ReadDirContext(ctx, l.full(name))
		out = make([]files.Info, len(entries))
		for i, e := range entries {
			out[i] = describe(e)
		}
		return plain("list", name, err)
	})
	slices.SortFunc(out, func(a, b files.Info) int { return cmp.Compare(a.Name, b.Name) })
	return out, err
}

// Open implements files.FS.
func (f *FS) Open(ctx context.Context, name string) (r io.ReadCloser, err error) {
	defer logs.Asked(ctx, "files", "open", name)(&err)
	err = f.use(ctx, true, []string{name}, func(l *line) error {
		if err := l.folder(path.Dir(name)); err != nil {
			return err
		}
		info, err := l.sftp.Lstat(l.full(name))
		if err != nil {
			return plain("open", name, err)
		}
		if !info.Mode().IsRegular() {
			return &fs.PathError{Op: "open", Path: name, Err: errors.New("it is no file")}
		}
		file, err := l.sftp.Open(l.full(name))
		if err != nil {
			return plain("open", name, err)
		}
		sure := l.sure(file, name, info)
		if l.root { // who asks for the name again, and may hear that the file has gone
			if err := sure(); err != nil {
				return errors.Join(err, file.Close())
			}
		}
		r = &reading{file, sure}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return r, nil
}

// Create implements files.FS. The mode is set before the content is written.
func (f *FS) Create(ctx context.Context, name string, mode fs.FileMode) (w io.WriteCloser, err error) {
	defer logs.Asked(ctx, "files", "create", name)(&err)
	err = f.use(ctx, false, []string{name}, func(l *line) error {
		if err := l.folder(path.Dir(name)); err != nil {
			return err
		}
		file, err := l.sftp.OpenFile(l.full(name), openNew)
		if err != nil {
			return l.taken("create", name, err)
		}
		sure := l.sure(file, name, nil)
		if err := l.settle(&l.newFile, mode, name, file.Chmod); err != nil {
			return errors.Join(plain("create", name, err), file.Close(), l.sftp.Remove(l.full(name)))
		}
		w = &writing{file, l, name, sure}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return w, nil
}

// writing is a file that is being written; its errors name it as we do.
type writing struct {
	file *sftp.File
	line *line
	name string
	sure func() error
}

func (w *writing) Write(p []byte) (int, error) {
	if err := w.sure(); err != nil {
		return 0, err
	}
	n, err := w.file.Write(p)
	return n, plain("write", w.name, w.full(err, len(p)))
}

// full tells a disk or a quota that is full from what a server says of it: a failure, and no more. Where it tells
// how much is left that is asked; of a quota none does.
func (w *writing) full(err error, wanted int) error {
	var status *sftp.StatusError
	if !errors.As(err, &status) || status.FxCode() != sftp.ErrSSHFxFailure {
		return err
	}
	if told, askErr := w.line.sftp.StatVFS(w.line.top); askErr == nil && told.Frsize*told.Bavail < uint64(wanted) {
		return noSpace{syscall.ENOSPC, "the server's disk is full"}
	}
	return noSpace{syscall.EDQUOT, "the server gives no reason, as servers do when the account's quota or the disk " +
		"is full"}
}

// noSpace is the cause of a write that failed for want of space.
type noSpace struct {
	cause error
	says  string
}

func (n noSpace) Error() string { return n.says }
func (n noSpace) Unwrap() error { return n.cause }

func (w *writing) Close() error {
	return errors.Join(w.sure(), plain("write", w.name, w.file.Close()))
}

// Mkdir implements files.FS.
func (f *FS) Mkdir(ctx context.Context, name string, mode fs.FileMode) (err error) {
	defer logs.Asked(ctx, "files", "make folder", name)(&err)
	return f.use(ctx, false, []string{name}, func(l *line) error {
		if err := l.folder(path.Dir(name)); err != nil {
			return err
		}
		err := l.taken("make", name, l.sftp.Mkdir(l.full(name)))
		for try := 1; failure(err) && try < unclear; try++ {
			err = l.taken("make", name, l.sftp.Mkdir(l.full(name)))
		}
		if err != nil {
			return err
		}
		err = l.settle(&l.newFolder, mode, name, func(m fs.FileMode) error { return l.sftp.Chmod(l.full(name), m) })
		if err == nil { // made just now, and so no link
			l.mu.Lock()
			l.inside[name] = time.Now()
			l.mu.Unlock()
		}
		return plain("make", name, err)
	})
}

// Chmod implements files.Moder.
func (f *FS) Chmod(ctx context.Context, name string, mode fs.FileMode) (err error) {
	defer logs.Asked(ctx, "files", "set the mode", name)(&err)
	return f.use(ctx, true, []string{name}, func(l *line) error {
		if err := l.folder(path.Dir(name)); err != nil {
			return err
		}
		return plain("set the mode of", name, l.sftp.Chmod(l.full(name), mode.Perm()))
	})
}

// settle gives something new its mode, unless it is one for everybody to read
// and the server's umask makes it so by itself: that saves a round trip each.
func (l *line) settle(usual *fs.FileMode, mode fs.FileMode, name string, chmod func(fs.FileMode) error) error {
	l.mu.Lock()
	known := *usual
	l.mu.Unlock()
	if known == mode && mode&0o044 == 0o044 {
		return nil
	}
	if known == 0 {
		info, err := l.sftp.Lstat(l.full(name))
		if err != nil {
			return err
		}
		l.mu.Lock()
		*usual = info.Mode().Perm()
		l.mu.Unlock()
		if info.Mode().Perm() == mode {
			return nil
		}
	}
	return chmod(mode)
}

// Rename implements files.FS. The plain rename of the protocol replaces
// nothing on the servers that matter; for others it is looked at first.
func (f *FS) Rename(ctx context.Context, from, to string) (err error) {
	defer logs.Asked(ctx, "files", "move", from, to)(&err)
	return f.use(ctx, false, []string{from, to}, func(l *line) error {
		for _, dir := range []string{path.Dir(from), path.Dir(to)} {
			if err := l.folder(dir); err != nil {
				return err
			}
		}
		defer l.forget()
		if _, err := l.sftp.Lstat(l.full(from)); err != nil {
			return plain("move", from, err)
		}
		if _, err := l.sftp.Lstat(l.full(to)); err == nil {
			return &fs.PathError{Op: "move", Path: to, Err: fs.ErrExist}
		}
		return l.taken("move", to, l.sftp.Rename(l.full(from), l.full(to)))
	})
}

// Remove implements files.FS.
func (f *FS) Remove(ctx context.Context, name string) (err error) {
	defer logs.Asked(ctx, "files", "remove", name)(&err)
	return f.use(ctx, false, []string{name}, func(l *line) error {
		if err := l.folder(path.Dir(name)); err != nil {
			return err
		}
		defer l.forget()
		info, err := l.sftp.Lstat(l.full(name))
		if err != nil {
			return plain("remove", name, err)
		}
		if info.IsDir() {
			return plain("remove", name, l.sftp.RemoveDirectory(l.full(name)))
		}
		return plain("remove", name, l.sftp.Remove(l.full(name)))
	})
}
