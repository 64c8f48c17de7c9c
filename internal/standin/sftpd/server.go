// Package sftpd is the stand-in's SSH server: SFTP within the account, and
// connections to this machine (RFC 4254, 7.2) for a database that listens
// inside of the hosting only. It has no shell, as most hostings.
package sftpd

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/subtle"
	"encoding/pem"
	"errors"
	"io"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"tivset/internal/standin/lines"
)

// Options say who may sign in, and to what.
type Options struct {
	Address  string // 127.0.0.1:0 for a free port
	Folder   string // keeps the server's own key
	Home     string // the account's folder; nothing outside of it is served
	User     string
	Password string

	// Quota is how many bytes the account may write, 0 for any number. Beyond, the server says of a write that it
	// failed, and no more, as OpenSSH does.
	Quota int64
}

// Server is a running server.
type Server struct {
	*lines.Listener
	options Options
	config  *ssh.ServerConfig
	key     ssh.Signer

	mu       sync.Mutex
	accepted []string // fingerprints of the keys that may sign in
}

// Start starts the server.
func Start(o Options) (*Server, error) {
	key, err := hostKey(filepath.Join(o.Folder, "host.key"))
	if err != nil {
		return nil, err
	}
	s := &Server{options: o, key: key}
	s.config = &ssh.ServerConfig{MaxAuthTries: 3, PasswordCallback: func(c ssh.ConnMetadata,
		password []byte) (*ssh.Permissions, error) {
		if c.User() != o.User || subtle.ConstantTimeCompare(password, []byte(o.Password)) != 1 {
			return nil, errors.New("refused")
		}
		return nil, nil
	}, PublicKeyCallback: func(c ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		s.mu.Lock()
		defer s.mu.Unlock()
		if c.User() != o.User || !slices.Contains(s.accepted, ssh.FingerprintSHA256(key)) {
			return nil, errors.New("refused")
		}
		return nil, nil
	}}
	s.config.AddHostKey(key)
	s.Listener, err = lines.Listen(o.Address, func(line net.Conn, _ int) { s.connection(line) })
	return s, err
}

// Accept lets the owner of a key sign in.
func (s *Server) Accept(key ssh.PublicKey) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.accepted = append(s.accepted, ssh.FingerprintSHA256(key))
}

// hostKey reads the server's key, or makes it.
func hostKey(name string) (ssh.Signer, error) {
	text, err := os.ReadFile(name)
	if err == nil {
		return ssh.ParsePrivateKey(text)
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	block, err := ssh.MarshalPrivateKey(private, "stand-in")
	if err != nil {
		return nil, err
	}
	if err := errors.Join(os.MkdirAll(filepath.Dir(name), 0o700), os.WriteFile(name, pem.EncodeToMemory(block),
		0o600)); err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(private)
}

// Fingerprint is that of the server's key.
func (s *Server) Fingerprint() string { return ssh.FingerprintSHA256(s.key.PublicKey()) }

func (s *Server) connection(line net.Conn) {
	conn, channels, requests, err := ssh.NewServerConn(line, s.config)
	if err != nil {
		return
	}
	defer conn.Close()
	go ssh.DiscardRequests(requests)
	for c := range channels {
		switch c.ChannelType() {
		case "session":
			go s.session(c)
		case "direct-tcpip":
			go forward(c)
		default:
			_ = c.Reject(ssh.UnknownChannelType, "not offered here")
		}
	}
}

func (s *Server) session(c ssh.NewChannel) {
	channel, requests, err := c.Accept()
	if err != nil {
		return
	}
	defer channel.Close()
	for r := range requests {
		fits := r.Type == "subsystem" && string(r.Payload) == "\x00\x00\x00\x04sftp"
		_ = r.Reply(fits, nil)
		if fits {
			break
		}
	}
	go ssh.DiscardRequests(requests)
	root, err := os.OpenRoot(s.options.Home)
	if err != nil {
		return
	}
	defer root.Close()
	h := &handlers{root: root, home: s.options.Home, quota: s.options.Quota}
	server := sftp.NewRequestServer(channel, sftp.Handlers{FileGet: h, FilePut: h, FileCmd: h, FileList: h},
		sftp.WithStartDirectory(s.options.Home))
	_ = server.Serve()
}

// forward leads a connection to a server of this machine.
func forward(c ssh.NewChannel) {
	var to struct {
		Host     string
		Port     uint32
		From     string
		FromPort uint32
	}
	ip := net.ParseIP(to.Host)
	if ssh.Unmarshal(c.ExtraData(), &to) == nil {
		ip = net.ParseIP(to.Host)
	}
	if to.Host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		_ = c.Reject(ssh.Prohibited, "only this machine")
		return
	}
	line, err := net.Dial("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(int(to.Port))))
	if err != nil {
		_ = c.Reject(ssh.ConnectionFailed, "connection refused")
		return
	}
	defer line.Close()
	channel, requests, err := c.Accept()
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	go func() {
		_, _ = io.Copy(channel, line)
		_ = channel.CloseWrite()
		_ = channel.Close()
	}()
	_, _ = io.Copy(line, channel)
}

// handlers answer SFTP requests from within a folder.
type handlers struct {
	root    *os.Root
	home    string
	quota   int64 // 0 for none
	written atomic.Int64
}

func (h *handlers) inside(name string) (string, error) {
	rel, err := filepath.Rel(h.home, name)
	if err != nil || !filepath.IsLocal(rel) && rel != "." {
		return "", os.ErrPermission
	}
	return rel, nil
}

// Fileread implements sftp.FileReader.
func (h *handlers) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	name, err := h.inside(r.Filepath)
	if err != nil {
		return nil, err
	}
	return h.root.Open(name)
}

// Filewrite implements sftp.FileWriter.
func (h *handlers) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	name, err := h.inside(r.Filepath)
	if err != nil {
		return nil, err
	}
	flags, asked := os.O_WRONLY, r.Pflags()
	for _, f := range []struct {
		on   bool
		flag int
	}{{asked.Creat, os.O_CREATE}, {asked.Excl, os.O_EXCL}, {asked.Trunc, os.O_TRUNC}} {
		if f.on {
			flags |= f.flag
		}
	}
	file, err := h.root.OpenFile(name, flags, 0o644)
	if err != nil || h.quota == 0 {
		return file, err
	}
	return &rationed{file, h}, nil
}

// rationed is a file of an account that may not write for ever.
type rationed struct {
	*os.File
	of *handlers
}

func (r *rationed) WriteAt(p []byte, at int64) (int, error) {
	if r.of.written.Add(int64(len(p))) > r.of.quota {
		return 0, sftp.ErrSSHFxFailure
	}
	return r.File.WriteAt(p, at)
}

// Filecmd implements sftp.FileCmder.
func (h *handlers) Filecmd(r *sftp.Request) error {
	name, err := h.inside(r.Filepath)
	if err != nil {
		return err
	}
	switch r.Method {
	case "Setstat":
		if r.AttrFlags().Permissions {
			return h.root.Chmod(name, fs.FileMode(r.Attributes().Mode).Perm())
		}
		return nil
	case "Rename":
		to, err := h.inside(r.Target)
		if err != nil {
			return err
		}
		if _, err := h.root.Lstat(to); err == nil {
			return os.ErrExist
		}
		return h.root.Rename(name, to)
	case "Mkdir":
		return h.root.Mkdir(name, 0o755)
	case "Rmdir", "Remove":
		return h.root.Remove(name)
	}
	return sftp.ErrSSHFxOpUnsupported
}

// Filelist implements sftp.FileLister.
func (h *handlers) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	name, err := h.inside(r.Filepath)
	if err != nil {
		return nil, err
	}
	switch r.Method {
	case "Stat":
		info, err := h.root.Stat(name)
		return listing{info}, err
	case "List":
		dir, err := h.root.Open(name)
		if err != nil {
			return nil, err
		}
		defer dir.Close()
		all, err := dir.Readdir(-1)
		return listing(all), err
	}
	return nil, sftp.ErrSSHFxOpUnsupported
}

// Lstat implements sftp.LstatFileLister.
func (h *handlers) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	name, err := h.inside(r.Filepath)
	if err != nil {
		return nil, err
	}
	info, err := h.root.Lstat(name)
	return listing{info}, err
}

// RealPath implements sftp.RealPathFileLister: links are followed.
func (h *handlers) RealPath(name string) (string, error) {
	if !filepath.IsAbs(name) {
		name = filepath.Join(h.home, name)
	}
	real, err := filepath.EvalSymlinks(name)
	if errors.Is(err, fs.ErrNotExist) {
		return filepath.Clean(name), nil
	}
	return real, err
}

type listing []os.FileInfo

// ListAt implements sftp.ListerAt.
func (l listing) ListAt(into []os.FileInfo, from int64) (int, error) {
	if from >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(into, l[from:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}
