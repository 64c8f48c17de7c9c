// Package setup carries out what a kit says: the steps of an app's set-up, and
// the visits that show whether it works.
package setup

import (
	"context"
	"fmt"
	"io/fs"
	"path"
	"strconv"

	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
	"tivset/internal/secret"
)

// Runner carries out steps for one app that lies in Folder.
type Runner struct {
	Files   files.FS
	Folder  string // where the app's files are, from the account's top
	PHP     string // the account's PHP for the command line, or ""
	Data    database.Session
	Visitor *web.Visitor
	Base    string // the address at which the app's pages answer, with final slash
	Values  fill.Values
	Secrets []string // what no message may hold

	Rewriting bool // the server has to pass the app's addresses on to it

	page *web.Page            // the page got last
	got  map[string]*web.Page // while it is read as it is: the pages got, each once
}

// kinds are how the steps are carried out, by the key of their kind.
var kinds = map[string]func(*Runner, context.Context, kit.Step) error{
	"sql":     (*Runner).script,
	"run-sql": (*Runner).statement,
	"request": func(r *Runner, ctx context.Context, s kit.Step) error {
		return r.Request(web.Patient(ctx, s.Patience()), *s.Request)
	},
	"command": (*Runner).command,
	"remove":  (*Runner).remove,
	"write":   (*Runner).write,
}

// Do carries out one step of a kit's set-up.
func (r *Runner) Do(ctx context.Context, s kit.Step) error {
	do, known := kinds[s.Kind().Key]
	if !known {
		return fmt.Errorf("a step of the kind %q cannot be carried out", s.Kind().Key)
	}
	return do(r, ctx, s)
}

// remove takes away what only the set-up needed.
func (r *Runner) remove(ctx context.Context, s kit.Step) error {
	for _, name := range s.Remove {
		if err := files.RemoveAll(ctx, r.Files, path.Join(r.Folder, path.Clean(name))); err != nil {
			return err
		}
	}
	return nil
}

// write writes a file of the app's.
func (r *Runner) write(ctx context.Context, s kit.Step) error {
	text, err := fill.Text(s.Write.Text, r.Values)
	if err != nil {
		return err
	}
	name, mode := path.Join(r.Folder, path.Clean(s.Write.File)), fs.FileMode(0o644)
	if n, err := strconv.ParseUint(s.Write.Mode, 8, 32); err == nil {
		mode = fs.FileMode(n)
	}
	if err := files.Drop(ctx, r.Files, name); err != nil {
		return err
	}
	if _, err := files.MkdirAll(ctx, r.Files, path.Dir(name), 0o755); err != nil {
		return err
	}
	return files.Write(ctx, r.Files, name, []byte(text), mode)
}

func (r *Runner) fillAll(texts map[string]string) (map[string]string, error) {
	out := map[string]string{}
	for name, text := range texts {
		v, err := fill.Text(text, r.Values)
		if err != nil {
			return nil, err
		}
		out[name] = v
	}
	return out, nil
}

func (r *Runner) redact(text string) string { return secret.Hide(text, r.Secrets) }
