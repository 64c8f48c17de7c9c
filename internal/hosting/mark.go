package hosting

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"math/rand/v2"
	"path"
	"time"

	"tivset/internal/hosting/files"
)

// Mark says, in the account itself, who works at an address: somebody on
// another machine sees it too. docs/formats.md describes the file.
type Mark struct {
	Job     string    `json:"job"`
	Address string    `json:"address"`
	Who     string    `json:"who"`
	Since   time.Time `json:"since"`
	Folder  string    `json:"folder,omitempty"` // of the site, from the account's top
	New     bool      `json:"new,omitempty"`    // a site comes to be there
}

// mostOfMark is up to how many bytes of a mark are read.
const mostOfMark = 1 << 16

// SetMark writes a mark. fs.ErrExist when another is there, which stays: a mark
// appears whole or not at all, and never in another's place.
func (a *Account) SetMark(ctx context.Context, name string, m Mark) error {
	text, err := json.Marshal(m)
	if err != nil {
		return err
	}
	part := markPart(name, m.Job)
	for try := range comeAndGo {
		var about *fs.PathError
		if err = a.writePart(ctx, part, text); !errors.As(err, &about) || ctx.Err() != nil {
			break // it is done, or nothing of what is there was in the way
		}
		select {
		case <-ctx.Done():
		case <-time.After(time.Duration(try*20+rand.IntN(30)) * time.Millisecond):
		}
		_ = files.Drop(context.WithoutCancel(ctx), a.Files, part) // what was begun of it
	}
	if err != nil {
		return err
	}
	if err = a.Files.Rename(ctx, part, name); errors.Is(err, fs.ErrExist) {
		_ = files.Drop(context.WithoutCancel(ctx), a.Files, part) // the mark that is there is another one
	}
	return err
}

// comeAndGo is how often a mark is written anew: other jobs take the empty store away while
// this one makes it, and some servers give no reason for what they refuse then.
const comeAndGo = 6

func (a *Account) writePart(ctx context.Context, part string, text []byte) error {
	if _, err := files.MkdirAll(ctx, a.Files, path.Dir(part), 0o700); err != nil {
		return err
	}
	return files.Write(ctx, a.Files, part, text, 0o600)
}

// markPart is a mark while it is written.
func markPart(name, job string) string { return path.Join(path.Dir(name), job+".part") }

// ReadMark reads a mark; fs.ErrNotExist when there is none.
func (a *Account) ReadMark(ctx context.Context, name string) (Mark, error) {
	var m Mark
	text, err := files.Read(ctx, a.Files, name, mostOfMark)
	if err != nil {
		return m, err
	}
	return m, json.Unmarshal(text, &m)
}

// Marks reads the marks of a folder; those that cannot be read are passed over.
func (a *Account) Marks(ctx context.Context, folder string) (out []Mark, err error) {
	inside, err := a.Files.List(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	for _, i := range inside {
		if path.Ext(i.Name) != ".json" {
			continue
		}
		if m, err := a.ReadMark(ctx, path.Join(folder, i.Name)); err == nil {
			out = append(out, m)
		}
	}
	return out, err
}

// DropMark takes a job's own mark away, whole or half written, and then those
// of the folders that are empty, innermost first. Another's mark stays.
func (a *Account) DropMark(ctx context.Context, name, job string, folders ...string) error {
	if err := files.Drop(ctx, a.Files, markPart(name, job)); err != nil {
		return err
	}
	m, err := a.ReadMark(ctx, name)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err == nil && m.Job == job {
		if err := files.Drop(ctx, a.Files, name); err != nil {
			return err
		}
	}
	return files.DropEmpty(ctx, a.Files, folders...)
}
