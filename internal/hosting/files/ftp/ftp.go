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
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/files"
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

	mu     sync.Mutex
	inside map[string]bool            // folders seen to be none but folders
	made   map[string]map[string]bool // folders made here, with what was made in them
	usual  map[bool]fs.FileMode       // what the server makes of new files and folders
	plain  bool                       // the server sets no modes
}

var (
	_ files.FS          = (*FS)(nil)
	_ files.Wide        = (*FS)(nil)
	_ files.TreeRemover = (*FS)(nil)
)

// Open signs in and makes sure that the account's folder is there: top, from the
// server's root, or from the login folder when it has no leading slash.
func Open(ctx context.Context, l Login, certs *Certificates, top string) (*FS, error) {
	return NewPool(l, certs).Open(ctx, top)
}

// Open opens files over the pool's connections, as the function of that name does.
func (p *Pool) Open(ctx context.Context, top string) (*FS, error) {
	p.hold()
	f := &FS{pool: p, top: top, usual: map[bool]fs.FileMode{}}
	f.forget()
	login := "/"
	err := f.pool.use(ctx, func(n *line, _ bool) error {
		if !path.IsAbs(top) {
			var err error
			if login, err = p.loginFolder(n); err != nil {
				return err
			}
			f.top = path.Join(login, top)
		}
		_, err := n.do("CWD " + f.top)
		return err
	})
	var said *reply
	var known *fault.Error
	if errors.As(err, &said) && !errors.As(err, &known) {
		err = fault.New(fault.Failed, "the account's folder is not there", f.top,
			"Correct the folder in reach: of the account. One slash after the host is the login folder, "+login+
				" here; two slashes lead to the server's root.").Because(said)
	}
	if err != nil {
		_ = f.Close()
		return nil, err
	}
	return f, nil
}

// loginFolder gives the folder in which one is after signing in. It is asked for once, on a
// connection that has not gone elsewhere yet.
func (p *Pool) loginFolder(n *line) (string, error) {
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
func (f *FS) use(ctx context.Context, names []string, call func(n *line, again bool) error) error {
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

func (f *FS) full(name string) string { return path.Join(f.top, name) }

// forget drops what is known of folders: something was moved or went.
func (f *FS) forget() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.inside, f.made = map[string]bool{".": true}, map[string]map[string]bool{}
}

// folder makes sure that a folder is one, and that no link leads to it.
func (f *FS) folder(n *line, name string) error {
	f.mu.Lock()
	known := f.inside[name]
	f.mu.Unlock()
	if known {
		return nil
	}
	if err := f.folder(n, path.Dir(name)); err != nil {
		return err
	}
	info, err := f.look(n, name)
	if err != nil {
		return err
	}
	if info.Mode&fs.ModeSymlink != 0 {
		return &fs.PathError{Op: "use", Path: name,
			Err: errors.New("it is a link, and over FTP nobody can tell whether it leads out of the account")}
	}
	if !info.IsDir() {
		return &fs.PathError{Op: "find", Path: name, Err: fs.ErrNotExist}
	}
	f.mu.Lock()
	f.inside[name] = true
	f.mu.Unlock()
	return nil
}

// stat describes what is at name, whose folder was looked at.
func (f *FS) stat(n *line, name string) (files.Info, error) {
	if name == "." {
		return files.Info{Name: ".", Mode: fs.ModeDir | usualFolder}, nil
	}
	if !n.facts() {
		return f.look(n, name)
	}
	text, err := n.do("MLST " + f.full(name))
	if err != nil {
		return files.Info{}, plain("find", name, err)
	}
	for _, l := range strings.Split(text, "\n") {
		if info, ok := fact(strings.TrimLeft(l, " ")); ok && strings.Contains(l, "=") {
			info.Name = path.Base(name)
			if info.Mode.Perm() == 0o777 { // as links have, which some servers describe as what they lead to
				return f.look(n, name)
			}
			return info, nil
		}
	}
	return files.Info{}, plain("find", name, &reply{250, text})
}

// look describes what is at name by the listing of its folder: servers that
// follow links elsewhere show them there. A server whose listing cannot be
// read has no links that anybody could know of.
func (f *FS) look(n *line, name string) (files.Info, error) {
	all, err := f.long(n, path.Dir(name))
	if err == nil && len(all) == 0 && n.facts() {
		all, err = f.short(n, path.Dir(name))
	}
	if err != nil {
		return files.Info{}, err
	}
	for _, i := range all {
		if i.Name == path.Base(name) {
			return i, nil
		}
	}
	return files.Info{}, &fs.PathError{Op: "find", Path: name, Err: fs.ErrNotExist}
}

// longestListing bounds what a server may send as a listing, in bytes.
const longestListing = 64 << 20

func (f *FS) list(n *line, name string) ([]files.Info, error) {
	if n.facts() {
		return f.short(n, name)
	}
	return f.long(n, name)
}

// short lists a folder by MLSD (RFC 3659).
func (f *FS) short(n *line, name string) ([]files.Info, error) {
	return listing(n, name, "MLSD "+f.full(name), fact)
}

// long lists a folder by LIST. It goes there first: a path with spaces or a
// dash would be read as options.
func (f *FS) long(n *line, name string) ([]files.Info, error) {
	if _, err := n.do("CWD " + f.full(name)); err != nil {
		return nil, plain("list", name, err)
	}
	now := time.Now()
	return listing(n, name, "LIST -a", func(line string) (files.Info, bool) { return listed(line, now) })
}

func listing(n *line, name, command string, read func(string) (files.Info, bool)) ([]files.Info, error) {
	var text limited
	if err := n.download(command, &text); err != nil {
		return nil, plain("list", name, err)
	}
	var out []files.Info
	for _, l := range strings.Split(text.String(), "\n") {
		if info, ok := read(strings.TrimSuffix(l, "\r")); ok {
			out = append(out, info)
		}
	}
	slices.SortFunc(out, func(a, b files.Info) int { return cmp.Compare(a.Name, b.Name) })
	return out, nil
}

// limited is a buffer that takes no more than a listing may have.
type limited struct{ bytes.Buffer }

func (l *limited) Write(p []byte) (int, error) {
	if l.Len()+len(p) > longestListing {
		return 0, fault.New(fault.Failed, fmt.Sprintf("the server sends a listing of more than %d MB", longestListing>>20),
			"", "Ask the host what is wrong with this FTP server.")
	}
	return l.Buffer.Write(p)
}

var (
	saysDenied = regexp.MustCompile(`(?i)denied|permitted|permission|forbidden|read.?only`)
	saysFull   = regexp.MustCompile(`(?i)no space|quota|disk full|storage`)
	saysFilled = regexp.MustCompile(`(?i)not empty`)
)

// plain gives a refusal the words of package fs. The protocol has one number
// for many reasons, so that the server's words decide between them.
func plain(op, name string, err error) error {
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
	err = f.use(ctx, []string{name}, func(n *line, _ bool) error {
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
	err = f.use(ctx, []string{name}, func(n *line, _ bool) error {
		if err := f.folder(n, name); err != nil {
			return err
		}
		out, err = f.list(n, name)
		return err
	})
	return out, err
}

// Mkdir implements files.FS.
func (f *FS) Mkdir(ctx context.Context, name string, mode fs.FileMode) error {
	return f.use(ctx, []string{name}, func(n *line, again bool) error {
		if err := f.folder(n, path.Dir(name)); err != nil {
			return err
		}
		err := f.taken(n, "make", name, command(n, "MKD "+f.full(name)))
		for try := 1; errors.Is(err, fs.ErrPermission) && try < unclear; try++ {
			err = f.taken(n, "make", name, command(n, "MKD "+f.full(name)))
		}
		if err != nil && (!again || !errors.Is(err, fs.ErrExist)) {
			return err
		}
		f.mu.Lock()
		f.inside[name], f.made[name] = true, map[string]bool{}
		f.note(name)
		f.mu.Unlock()
		return f.settle(n, name, mode, true)
	})
}

// unclear is how often something is tried that a server refuses without a reason that one
// can see: others may have made and taken away what was in the way.
const unclear = 3

// note remembers that something was made; the caller holds the lock.
func (f *FS) note(name string) {
	if in := f.made[path.Dir(name)]; in != nil {
		in[path.Base(name)] = true
	}
}

func command(n *line, text string) error {
	_, err := n.do(text)
	return err
}

// taken tells a refusal because of what is there from any other.
func (f *FS) taken(n *line, op, name string, err error) error {
	var said *reply
	if !errors.As(err, &said) || lost(err) {
		return err
	}
	if _, statErr := f.stat(n, name); statErr == nil {
		return &fs.PathError{Op: op, Path: name, Err: fs.ErrExist}
	} else if !errors.Is(statErr, fs.ErrNotExist) {
		return statErr
	}
	worded := plain(op, name, err)
	f.forget() // others may have taken its folder away
	if gone := f.folder(n, path.Dir(name)); gone != nil {
		return gone
	}
	if errors.Is(worded, fs.ErrNotExist) { // its folder is there: the words said too little
		return &fs.PathError{Op: op, Path: name, Err: fmt.Errorf("%w (%s)", fs.ErrPermission, said.text)}
	}
	return worded
}

// Rename implements files.FS.
func (f *FS) Rename(ctx context.Context, from, to string) error {
	return f.use(ctx, []string{from, to}, func(n *line, again bool) error {
		for _, dir := range []string{path.Dir(from), path.Dir(to)} {
			if err := f.folder(n, dir); err != nil {
				return err
			}
		}
		defer f.forget()
		_, gone := f.stat(n, from)
		_, there := f.stat(n, to)
		switch {
		case again && errors.Is(gone, fs.ErrNotExist) && there == nil:
			return nil // it was done before the connection was lost
		case gone != nil:
			return gone
		case there == nil:
			return &fs.PathError{Op: "move", Path: to, Err: fs.ErrExist}
		case !errors.Is(there, fs.ErrNotExist):
			return there
		}
		n.within(replyTime)
		if code, text, err := n.command("RNFR " + f.full(from)); err != nil || code != codeFurther {
			return cmp.Or(err, plain("move", from, &reply{code, text}))
		}
		return plain("move", to, command(n, "RNTO "+f.full(to)))
	})
}

// Remove implements files.FS.
func (f *FS) Remove(ctx context.Context, name string) error {
	return f.use(ctx, []string{name}, func(n *line, again bool) error {
		if err := f.folder(n, path.Dir(name)); err != nil {
			return err
		}
		defer f.forget()
		info, err := f.stat(n, name)
		if again && errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err != nil {
			return err
		}
		verb := "DELE "
		if info.IsDir() {
			verb = "RMD "
		}
		var said *reply
		err = command(n, verb+f.full(name))
		if errors.As(err, &said) && info.IsDir() && command(n, "DELE "+f.full(name)) == nil {
			return nil // a link, which this server describes as what it leads to
		}
		if errors.As(err, &said) && info.IsDir() && said.code == codeNotDone && !saysDenied.MatchString(said.text) {
			return &fs.PathError{Op: "remove", Path: name, Err: said} // most likely it is not empty
		}
		return plain("remove", name, err)
	})
}

// Open implements files.FS. What is read is fetched as it is asked for; a
// connection lost in the middle is made again, and what was read is passed over.
func (f *FS) Open(ctx context.Context, name string) (io.ReadCloser, error) {
	var was files.Info
	err := f.use(ctx, []string{name}, func(n *line, _ bool) error {
		if err := f.folder(n, path.Dir(name)); err != nil {
			return err
		}
		info, err := f.look(n, name)
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
		err := f.pool.use(ctx, func(n *line, _ bool) error {
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
			return plain("open", name, n.download("RETR "+f.full(name), writerFunc(func(p []byte) (int, error) {
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
