// Package onetimepage lets a browser in where only the program can: a page on this
// machine that works once and for a short time, and sends a form on. Its address
// is in a file that only this user can read, so that it is in no program's words,
// which every user of the machine can see.
package onetimepage

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"html/template"
	"net"
	"net/http"
	"net/url"
	"os"
	"time"
)

// ErrUnused means that nobody came in time.
var ErrUnused = errors.New("the page was not opened in time")

// Doorway is a page that waits to be opened.
type Doorway struct {
	Address string // of the page, http://127.0.0.1:…

	server *http.Server
	opened chan error
	file   string
}

// Form is what the page sends on.
type Form struct {
	Action string
	Values url.Values
}

// page sends its form by itself; without scripts it has a button. 127.0.0.1 is
// another site than the form's, so that no cookie of the browser's goes along
// but what the form's site sets in its answer.
var page = template.Must(template.New("").Parse(`<!doctype html>
<html><head><meta charset="utf-8"><meta name="referrer" content="no-referrer"><title>One moment</title></head>
<body><form method="post" action="{{.Action}}">{{range $name, $all := .Values}}{{range $all}}<input type="hidden" name="{{$name}}" value="{{.}}">{{end}}{{end}}
<noscript><button>Sign in</button></noscript></form><script>document.forms[0].submit()</script></body></html>
`))

// Open serves a page that sends a form on, which is made when a browser comes: it
// is told what the browser calls itself. It can be opened once.
func Open(form func(ctx context.Context, agent string) (Form, error)) (*Doorway, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	token := make([]byte, 24)
	if _, err := rand.Read(token); err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	d := &Doorway{Address: "http://" + listener.Addr().String() + "/" + hex.EncodeToString(token),
		opened: make(chan error, 1)}
	once := make(chan struct{}, 1)
	once <- struct{}{}
	d.server = &http.Server{ReadHeaderTimeout: 5 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method != http.MethodGet || r.URL.Path != "/"+hex.EncodeToString(token) {
				http.NotFound(w, r)
				return
			}
			select {
			case <-once:
			default:
				http.Error(w, "This page worked once.", http.StatusGone)
				return
			}
			sent, err := form(r.Context(), r.UserAgent())
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().Set("Cache-Control", "no-store")
			w.Header().Set("Referrer-Policy", "no-referrer")
			if err == nil {
				err = page.Execute(w, sent)
			} else {
				http.Error(w, "That did not work; the terminal says why.", http.StatusBadGateway)
			}
			d.opened <- err
		})}
	go func() { _ = d.server.Serve(listener) }()
	return d, nil
}

// File writes a file into a folder, readable to this user only, that leads a
// browser to the page; it goes with the page.
func (d *Doorway) File(folder string) (name string, err error) {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	file, err := os.CreateTemp(folder, "enter-*.html") // 0600
	if err != nil {
		return "", err
	}
	d.file = file.Name()
	err = leading.Execute(file, d.Address)
	return d.file, errors.Join(err, file.Close())
}

// leading is a page that leads to another.
var leading = template.Must(template.New("").Parse(`<!doctype html>
<meta charset="utf-8"><meta name="referrer" content="no-referrer"><meta http-equiv="refresh" content="0; url={{.}}">
<title>One moment</title><a href="{{.}}">Go on</a>
`))

// Wait waits until the page was opened, and then closes it. ErrUnused when that
// did not happen in time; what went wrong with its form when that could not be
// made.
func (d *Doorway) Wait(ctx context.Context, most time.Duration) error {
	var err error
	select {
	case err = <-d.opened:
	case <-ctx.Done():
		err = ctx.Err()
	case <-time.After(most):
		err = ErrUnused
	}
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 2*time.Second)
	defer cancel()
	_ = d.server.Shutdown(end) // lets the answer under way out
	if d.file != "" {
		_ = os.Remove(d.file)
	}
	return err
}
