// Package pages is the stand-in's web server: several domains on one port,
// each with its document root, and a small page runtime that runs the demo
// apps.
//
// It serves files as they are; *.page files it runs (see runtime.go). A .php
// file that only sets constants and variables answers with nothing, as with a
// real interpreter. A folder whose .htaccess says “Require all denied” is not
// served. What else it is asked for and cannot do, it refuses with an answer
// that names it.
package pages

import (
	"context"
	"errors"
	"fmt"
	"html"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Options say what to serve.
type Options struct {
	Address  string            // host:port to listen at; port 0 for a free one
	Home     string            // the account's folder, outside of which no page can read or write
	Roots    map[string]string // domain to document root
	Mailbox  string            // host:port of the server that the pages' mails go to
	Database map[string]string // a server's name in configurations to its real address
}

// Server is a running web server.
type Server struct {
	options  Options
	listener net.Listener
	http     *http.Server
	sessions *sessions
	mu       sync.Mutex
	broken   map[string]int // path prefix to status, for rehearsing failures
	lax      bool           // .htaccess is ignored, as by some servers
	open     bool           // folders without a page are listed
}

// Start starts a server.
func Start(o Options) (*Server, error) {
	l, err := net.Listen("tcp", o.Address)
	if err != nil {
		return nil, fmt.Errorf("start the web server: %w", err)
	}
	s := &Server{options: o, listener: l, sessions: newSessions(), broken: map[string]int{}}
	s.http = &http.Server{Handler: s, ReadHeaderTimeout: 10 * time.Second}
	go func() { _ = s.http.Serve(l) }()
	return s, nil
}

// Address gives host:port.
func (s *Server) Address() string { return s.listener.Addr().String() }

// Close ends the server.
func (s *Server) Close() error {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	if s.http.Shutdown(ctx) != nil {
		return s.http.Close()
	}
	return nil
}

// Break has every address below a prefix answer with a status; 0 mends it.
func (s *Server) Break(prefix string, status int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.broken[prefix] = status
}

// IgnoreRules has the server serve in spite of .htaccess, as some servers do.
func (s *Server) IgnoreRules(yes bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.lax = yes
}

func (s *Server) ignoresRules() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lax
}

// ListFolders has the server list folders that have no page.
func (s *Server) ListFolders(yes bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.open = yes
}

func (s *Server) lists() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.open
}

func (s *Server) brokenStatus(p string) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	for prefix, status := range s.broken {
		if status != 0 && strings.HasPrefix(p, prefix) {
			return status
		}
	}
	return 0
}

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	host, _, err := net.SplitHostPort(r.Host)
	if err != nil {
		host = r.Host
	}
	folder, ok := s.options.Roots[strings.ToLower(host)]
	if !ok {
		http.Error(w, "no domain "+host+" is served here", http.StatusNotFound)
		return
	}
	if status := s.brokenStatus(r.URL.Path); status != 0 {
		http.Error(w, http.StatusText(status), status)
		return
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		http.Error(w, "the document root of "+host+" is not there", http.StatusInternalServerError)
		return
	}
	defer root.Close()
	s.serve(&visit{server: s, root: root, w: w, r: r, host: host})
}

// visit is one request on its way.
type visit struct {
	server *Server
	root   *os.Root
	w      http.ResponseWriter
	r      *http.Request
	host   string
}

func (s *Server) serve(v *visit) {
	name := strings.TrimPrefix(path.Clean("/"+v.r.URL.Path), "/")
	if name == "" {
		name = "."
	}
	info, err := v.root.Stat(name)
	if err == nil && info.IsDir() {
		if !strings.HasSuffix(v.r.URL.Path, "/") {
			http.Redirect(v.w, v.r, v.r.URL.Path+"/", http.StatusMovedPermanently)
			return
		}
		name, err = v.index(name)
	}
	switch {
	case errors.Is(err, fs.ErrNotExist) && info != nil && info.IsDir() && s.lists():
		v.listing(path.Clean(strings.TrimPrefix(v.r.URL.Path, "/")))
	case errors.Is(err, fs.ErrNotExist):
		v.missing()
	case err != nil:
		http.Error(v.w, "not allowed", http.StatusForbidden)
	case v.denied(name):
		http.Error(v.w, "not allowed", http.StatusForbidden)
	default:
		v.file(name)
	}
}

func (v *visit) missing() { http.Error(v.w, "nothing is here", http.StatusNotFound) }

// listing shows what is in a folder, as servers do that nobody told otherwise.
func (v *visit) listing(folder string) {
	entries, err := fs.ReadDir(v.root.FS(), folder)
	if err != nil {
		v.missing()
		return
	}
	for _, e := range entries {
		if !strings.HasPrefix(e.Name(), ".") {
			fmt.Fprintf(v.w, "<a href=\"%s\">%s</a>\n", url.PathEscape(e.Name()), html.EscapeString(e.Name()))
		}
	}
}

// index finds the page that a folder shows.
func (v *visit) index(folder string) (string, error) {
	for _, name := range []string{"index.page", "index.html"} {
		full := path.Join(folder, name)
		if _, err := v.root.Stat(full); err == nil {
			return full, nil
		}
	}
	return "", fs.ErrNotExist
}

// denied looks for a deny rule in the folders from the root to the file.
func (v *visit) denied(name string) bool {
	if base := path.Base(name); strings.HasPrefix(base, ".ht") {
		return true
	}
	for dir := path.Dir(name); !v.server.ignoresRules(); dir = path.Dir(dir) {
		text, err := v.root.ReadFile(path.Join(dir, ".htaccess"))
		if err == nil && strings.Contains(string(text), "Require all denied") {
			return true
		}
		if dir == "." {
			break
		}
	}
	return false
}

func (v *visit) file(name string) {
	switch filepath.Ext(name) {
	case ".page":
		v.page(name)
	case ".part":
		v.missing()
	case ".php":
		v.php(name)
	default:
		if v.r.Method != http.MethodGet && v.r.Method != http.MethodHead {
			http.Error(v.w, "a file takes no forms", http.StatusMethodNotAllowed)
			return
		}
		http.ServeFileFS(v.w, v.r, v.root.FS(), name)
	}
}

// php answers as an interpreter would for a file that only sets values.
func (v *visit) php(name string) {
	text, err := v.root.ReadFile(name)
	if err != nil {
		v.missing()
		return
	}
	if _, err := ReadPHP(string(text)); err != nil {
		http.Error(v.w, "the stand-in runs .page files, not PHP: "+err.Error(), http.StatusNotImplemented)
		return
	}
	v.w.Header().Set("Content-Type", "text/html; charset=utf-8")
}
