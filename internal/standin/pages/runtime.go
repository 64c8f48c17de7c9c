package pages

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"path"
	"strings"
)

// A page is an HTML template (Go's html/template) whose functions reach the
// app's configuration, its database, the visitor's form and session: see
// functions in funcs.go. Output is kept until the page has run to its end, so
// that a redirect or a failure half way leaves nothing half sent.

// stop ends a page early.
type stop struct {
	status int
	to     string // for a redirect
	text   string
	html   string // in the place of text
}

func (s *stop) Error() string { return s.text }

// page runs a .page file.
func (v *visit) page(name string) {
	if err := v.r.ParseForm(); err != nil {
		http.Error(v.w, "the form cannot be read", http.StatusBadRequest)
		return
	}
	p := &running{visit: v, name: name, folder: path.Dir(name), session: v.server.sessions.of(v.w, v.r)}
	defer p.closeAll()
	var out bytes.Buffer
	err := p.run(name, nil, &out)
	var s *stop
	switch {
	case errors.As(err, &s) && s.to != "":
		http.Redirect(v.w, v.r, s.to, s.status)
		return
	case errors.As(err, &s):
		v.w.WriteHeader(s.status)
		_, _ = io.WriteString(v.w, cmp.Or(s.html,
			"<!doctype html><title>Error</title><p>"+template.HTMLEscapeString(s.text)+"</p>\n"))
		return
	case err != nil:
		// As with a real runtime, what went wrong is for the log, not for strangers.
		v.w.WriteHeader(http.StatusInternalServerError)
		fmt.Fprintln(v.w, "<!doctype html><title>Error</title><p>The page failed.</p>")
		return
	}
	v.w.Header().Set("Content-Type", "text/html; charset=utf-8")
	v.w.WriteHeader(cmp.Or(p.status, http.StatusOK))
	_, _ = v.w.Write(out.Bytes())
}

// running is a page while it runs.
type running struct {
	*visit
	name    string
	folder  string // of the page, below the document root
	session *session
	open    []*Database
	status  int // of the answer, 200 where it is 0
}

func (p *running) closeAll() {
	for _, d := range p.open {
		_ = d.db.Close()
	}
}

// inside resolves a path of a page, which is relative to the page's folder.
func (p *running) inside(name string) (string, error) {
	full := path.Join(p.folder, name)
	if strings.HasPrefix(full, "..") || path.IsAbs(name) {
		return "", fmt.Errorf("%s is outside the document root", name)
	}
	return full, nil
}

// run runs a page or part. An error that a function gave comes back as it was.
func (p *running) run(name string, data any, out *bytes.Buffer) error {
	text, err := p.root.ReadFile(name)
	if err != nil {
		return err
	}
	t, err := template.New(path.Base(name)).Funcs(p.functions()).Parse(string(text))
	if err != nil {
		return err
	}
	return t.Execute(out, data)
}
