// Package ftp reaches an account's files over FTP (RFC 959), in clear or with
// TLS on the same port (RFC 4217).
//
// The protocol client is our own, on net/textproto: files get their modes,
// links are told from files, connections are shared and made again in one
// place, and a command waits for no answer that it does not need.
//
// A folder is used only after every folder on its way was seen to be no link:
// over FTP nobody can tell where a link leads.
package ftp

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/files"
	"tivset/internal/logs"
	"tivset/internal/secret"
)

// Login is how to sign in.
type Login struct {
	Address  string // host:port
	User     string
	Password secret.Text
	TLS      bool
	Account  string        // the name of the account that it is for, to say what to do
	Wait     time.Duration // for a server that does not answer; ConnectTime when 0
}

func (l Login) wait() time.Duration { return cmp.Or(l.Wait, ConnectTime) }

// FS is the files below a folder of a server.
type FS struct {
	pool *Pool
	top  string

	closing sync.Once

	known *knowledge

	mu    sync.Mutex
	usual map[bool]fs.FileMode // what the server makes of new files and folders
	plain bool                 // the server sets no modes
}

var (
	_ files.FS          = (*FS)(nil)
	_ files.Parallel    = (*FS)(nil)
	_ files.TreeRemover = (*FS)(nil)
)

// Open signs in and makes sure that the account's folder is there: top, from the
// server's root, or from the login folder when it has no leading slash.
func Open(ctx context.Context, l Login, certs *certificates.Known, top string) (*FS, error) {
	return NewPool(l, certs).Open(ctx, top)
}

// Open opens files over the pool's connections, as the function of that name does.
func (p *Pool) Open(ctx context.Context, top string) (*FS, error) {
	p.hold()
	f := &FS{pool: p, top: top, known: newKnowledge(), usual: map[bool]fs.FileMode{}}
	login := "/"
	err := f.pool.use(ctx, func(n *ctrlConn) error {
		if !path.IsAbs(top) {
			var err error
			if login, err = p.loginFolder(n); err != nil {
				return err
			}
			f.top = path.Join(login, top)
		}
		return n.goTo(f.top)
	})
	var said *reply
	var known *fault.Error
	if errors.As(err, &said) && !errors.As(err, &known) {
		err = fault.New(fault.Failed, "the account's folder is not there", f.top,
			"Correct the folder in files: of the account. One slash after the host is the login folder, "+login+
				" here; two slashes lead to the server's root.").Wrap(said)
	}
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}

// loginFolder gives the folder in which one is after signing in. It is asked for once, on a
// connection that has not gone elsewhere yet.
func (p *Pool) loginFolder(n *ctrlConn) (string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.home != "" {
		return p.home, nil
	}
	said, err := n.do("PWD")
	if err == nil {
		p.home = directory(said)
	}
	return p.home, err
}

// directory reads the folder out of a reply to PWD: it stands in quotes, and one in
// it is doubled (RFC 959, appendix II). Without quotes it is the root.
func directory(reply string) string {
	_, rest, quoted := strings.Cut(reply, `"`)
	if !quoted {
		return "/"
	}
	var out strings.Builder
	for i := 0; i < len(rest); i++ {
		if rest[i] == '"' {
			if i+1 >= len(rest) || rest[i+1] != '"' {
				break
			}
			i++
		}
		out.WriteByte(rest[i])
	}
	return path.Clean("/" + out.String())
}

// Close lets go of the connections; the last who shares them ends them.
func (f *FS) Close() error {
	f.closing.Do(f.pool.close)
	return nil
}

// Writers implements files.Wide.
func (f *FS) Writers() int { return lines }

// use runs a call about names on a connection.
func (f *FS) use(ctx context.Context, names []string, call func(n *ctrlConn) error) error {
	for _, name := range names {
		if err := files.Valid(name); err != nil {
			return err
		}
		if strings.ContainsAny(name, "\r\n\x00") {
			return &fs.PathError{Op: "use", Path: name,
				Err: fmt.Errorf("%w: a line break in a name cannot be said to an FTP server", fs.ErrInvalid)}
		}
	}
	return f.pool.use(ctx, call)
}

func (f *FS) full(name string) string { return path.Join(f.top, files.Raw(name)) }

var (
	saysDenied = regexp.MustCompile(`(?i)denied|permitted|permission|forbidden|read.?only`)
	saysFull   = regexp.MustCompile(`(?i)no space|quota|disk full|storage`)
	saysFilled = regexp.MustCompile(`(?i)not empty`)
)

// toFSError gives a refusal the words of package fs. The protocol has one number
// for many reasons, so that the server's words decide between them.
func toFSError(op, name string, err error) error {
	var said *reply
	if !errors.As(err, &said) || lost(err) {
		return err
	}
	cause := error(said)
	words := said.text // but for the name, which servers repeat
	for _, part := range []string{name, path.Base(name)} {
		words = strings.ReplaceAll(words, part, "")
	}
	switch {
	case said.code == codeNoSpace, said.code == codeQuota, saysFull.MatchString(words):
		cause = fmt.Errorf("%w (%s)", syscall.ENOSPC, said.text)
	case saysDenied.MatchString(words), said.code == 553:
		cause = fmt.Errorf("%w (%s)", fs.ErrPermission, said.text)
	case saysFilled.MatchString(words):
		cause = fmt.Errorf("%w (%s)", syscall.ENOTEMPTY, said.text)
	case said.code == codeNotDone, said.code == 450 && op == "list":
		cause = fs.ErrNotExist
	}
	return &fs.PathError{Op: op, Path: name, Err: cause}
}

// Stat implements files.FS.
func (f *FS) Stat(ctx context.Context, name string) (info files.Info, err error) {
	defer logs.Asked(ctx, "files", "look at", name)(&err)
	err = f.use(ctx, []string{name}, func(n *ctrlConn) error {
		if err := f.folder(n, path.Dir(name)); err != nil {
			return err
		}
		info, err = f.stat(n, name)
		return err
	})
	return info, err
}

// List implements files.FS.
func (f *FS) List(ctx context.Context, name string) (out []files.Info, err error) {
	defer logs.Asked(ctx, "files", "list", name)(&err)
	err = f.use(ctx, []string{name}, func(n *ctrlConn) error {
		if err := f.folder(n, name); err != nil {
			return err
		}
		out, err = f.list(n, name)
		return err
	})
	return out, err
}

// Mkdir implements files.FS. A folder that is there after a lost connection is the one that
// was asked for only if its name was seen to be free before.
func (f *FS) Mkdir(ctx context.Context, name string, mode fs.FileMode) (err error) {
	defer logs.Asked(ctx, "files", "make folder", name)(&err)
	sent := false
	return f.use(ctx, []string{name}, func(n *ctrlConn) error {
		err := f.free(n, name)
		if err == nil {
			err = f.makeFolder(n, name)
			sent = sent || lost(err)
		}
		if err != nil && (!sent || !errors.Is(err, fs.ErrExist)) {
			return err
		}
		f.known.madeFolder(name)
		return f.settle(n, name, mode, true)
	})
}

func (f *FS) makeFolder(n *ctrlConn, name string) error {
	err := f.taken(n, "make", name, command(n, "MKD "+f.full(name)))
	for try := 1; errors.Is(err, fs.ErrPermission) && try < unclear; try++ {
		err = f.taken(n, "make", name, command(n, "MKD "+f.full(name)))
	}
	return err
}

// unclear is how often something is tried that a server refuses without a reason that one
// can see: others may have made and taken away what was in the way.
const unclear = 3

func command(n *ctrlConn, text string) error {
	_, err := n.do(text)
	return err
}

// taken tells a refusal because of what is there from any other.
func (f *FS) taken(n *ctrlConn, op, name string, err error) error {
	var said *reply
	if !errors.As(err, &said) || lost(err) {
		return err
	}
	if _, statErr := f.stat(n, name); statErr == nil {
		return &fs.PathError{Op: op, Path: name, Err: fs.ErrExist}
	} else if !errors.Is(statErr, fs.ErrNotExist) {
		return statErr
	}
	worded := toFSError(op, name, err)
	f.known.forgetWay(name) // others may have taken its folder away
	if gone := f.folder(n, path.Dir(name)); gone != nil {
		return gone
	}
	if errors.Is(worded, fs.ErrNotExist) { // its folder is there: the words said too little
		return &fs.PathError{Op: op, Path: name, Err: fmt.Errorf("%w (%s)", fs.ErrPermission, said.text)}
	}
	return worded
}

// Rename implements files.FS. After a lost connection it is done only if the server was seen
// to be about to do it.
func (f *FS) Rename(ctx context.Context, from, to string) (err error) {
	defer logs.Asked(ctx, "files", "move", from, to)(&err)
	begun := false
	return f.use(ctx, []string{from, to}, func(n *ctrlConn) error {
		for _, dir := range []string{path.Dir(from), path.Dir(to)} {
			if err := f.folder(n, dir); err != nil {
				return err
			}
		}
		if begun {
			if _, err := f.stat(n, from); errors.Is(err, fs.ErrNotExist) {
				if _, err := f.stat(n, to); err == nil {
					f.moved(from, to)
					return nil
				}
			}
		}
		if err := f.clear(n, from, to); err != nil {
			if _, gone := f.stat(n, from); errors.Is(gone, fs.ErrNotExist) {
				return gone
			}
			return err
		}
		n.within(replyTime)
		if code, text, err := n.command("RNFR " + f.full(from)); err != nil || code != codeFurther {
			if err == nil {
				f.known.forgetWay(from)
				_, err = f.stat(n, from) // that it is not there is said in other words than that it must not be moved
			}
			return cmp.Or(err, toFSError("move", from, &reply{code, text}))
		}
		begun = true
		if err := command(n, "RNTO "+f.full(to)); err != nil {
			f.known.forgetWay(to)
			return toFSError("move", to, err)
		}
		f.moved(from, to)
		return nil
	})
}

// moved notes that something went from one name to another.
func (f *FS) moved(from, to string) {
	for _, name := range []string{from, to} {
		f.known.forget(name)
		f.known.changed(name, name == to)
	}
}

// clear makes sure that nothing is at a name to which something is to be moved. When many are
// moved from one folder into another, that is listed once. What is moved within its folder may
// be a mark that others want to set too: it is asked for each time.
func (f *FS) clear(n *ctrlConn, from, to string) error {
	into := path.Dir(to)
	if path.Dir(from) == into {
		return f.absent(n, "move", to)
	}
	if f.known.wasFree(to) {
		return nil
	}
	if f.known.oftenAsked(into) {
		if _, err := f.list(n, into); err == nil && f.known.wasFree(to) {
			return nil
		}
	}
	return f.absent(n, "move", to)
}

// absent makes sure that nothing is at a name; fs.ErrExist where something is.
func (f *FS) absent(n *ctrlConn, op, name string) error {
	_, err := f.stat(n, name)
	switch {
	case err == nil:
		return &fs.PathError{Op: op, Path: name, Err: fs.ErrExist}
	case errors.Is(err, fs.ErrNotExist):
		return nil
	}
	return err
}

// Remove implements files.FS. What is not there after a lost connection was removed if it
// was there before.
func (f *FS) Remove(ctx context.Context, name string) (err error) {
	defer logs.Asked(ctx, "files", "remove", name)(&err)
	seen := false
	return f.use(ctx, []string{name}, func(n *ctrlConn) error {
		if err := f.folder(n, path.Dir(name)); err != nil {
			return err
		}
		info, err := f.stat(n, name)
		if errors.Is(err, fs.ErrNotExist) {
			f.gone(name)
			if seen {
				return nil
			}
		}
		if err != nil {
			return err
		}
		seen = true
		if err := f.remove(n, name, info); err != nil {
			return err
		}
		f.gone(name)
		return nil
	})
}

// gone notes that something was taken away.
func (f *FS) gone(name string) {
	f.known.forget(name)
	f.known.changed(name, false)
}

func (f *FS) remove(n *ctrlConn, name string, info files.Info) error {
	verb := "DELE "
	if info.IsDir() {
		verb = "RMD "
	}
	var said *reply
	err := command(n, verb+f.full(name))
	if errors.As(err, &said) && info.IsDir() && command(n, "DELE "+f.full(name)) == nil {
		return nil // a link, which this server describes as what it leads to
	}
	if errors.As(err, &said) && info.IsDir() && said.code == codeNotDone && !saysDenied.MatchString(said.text) {
		return &fs.PathError{Op: "remove", Path: name, Err: said} // most likely it is not empty
	}
	return toFSError("remove", name, err)
}

// Open implements files.FS. What is read is fetched as it is asked for; a
// connection lost in the middle is made again, and what was read is passed over.
func (f *FS) Open(ctx context.Context, name string) (_ io.ReadCloser, err error) {
	defer logs.Asked(ctx, "files", "open", name)(&err)
	var was files.Info
	err = f.use(ctx, []string{name}, func(n *ctrlConn) error {
		if err := f.folder(n, path.Dir(name)); err != nil {
			return err
		}
		info, err := f.glance(n, name)
		was = info
		if err == nil && !info.Mode.IsRegular() {
			return &fs.PathError{Op: "open", Path: name, Err: errors.New("it is no file")}
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	read, write := io.Pipe()
	sent := int64(0)
	go func() {
		err := f.pool.use(ctx, func(n *ctrlConn) error {
			skip := sent
			if skip > 0 {
				now, err := f.look(n, name)
				if err != nil {
					return err
				}
				if now.Size != was.Size || !now.Modified.Equal(was.Modified) {
					return fault.New(fault.Failed, "the file changed while the connection was lost", name, "Try again.")
				}
			}
			return toFSError("open", name, n.download("RETR "+f.full(name), writerFunc(func(p []byte) (int, error) {
				got := len(p)
				p = p[min(skip, int64(got)):]
				skip -= int64(got - len(p))
				n, err := write.Write(p)
				sent += int64(n)
				if err != nil {
					return n, err
				}
				return got, nil
			})))
		})
		write.CloseWithError(err)
	}()
	return read, nil
}

type writerFunc func([]byte) (int, error)

func (w writerFunc) Write(p []byte) (int, error) { return w(p) }
