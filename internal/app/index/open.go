package index

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"tivset/internal/app/archive"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/fetch"
	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// fetchTime is how long one file may take in all.
const fetchTime = 2 * time.Minute

func (s *Shelf) remote() bool { return strings.HasPrefix(s.From, "https://") }

func (s *Shelf) kitFolder(p Packed) string { return filepath.Join(s.Folder, "kits", p.SHA256) }

// Open implements catalogue.Published: a kit is fetched when it is first used.
func (s *Shelf) Open(app string) (folder fs.FS, withheld, err error) {
	k, err := s.read()
	if err != nil {
		return nil, nil, err
	}
	if k == nil {
		return nil, nil, fs.ErrNotExist
	}
	p, there := k.index.Kits[app]
	here, used := s.used(app)
	switch {
	case there:
		withheld = s.valid(k.index)
	case used:
		p, withheld = here, fault.New(fault.Failed, here.Title+" has left the catalogue "+s.Name, app,
			"Sites of it that are there are looked after anyway. Ask its publisher for what they advise.")
	default:
		return nil, nil, fs.ErrNotExist
	}
	switch err := s.have(s.context(), p); {
	case err != nil && used && s.there(here): // what sites were looked after with until now
		p, withheld = here, err
	case err != nil:
		return nil, nil, err
	case here.SHA256 != p.SHA256:
		if err := s.use(p); err != nil {
			return nil, nil, err
		}
	}
	return catalogue.Folder("", s.kitFolder(p)).Files, withheld, nil
}

// used is the kit of an app that was used last here: sites are looked after with it when
// there is no newer one to be had.
func (s *Shelf) used(app string) (p Packed, there bool) {
	text, err := os.ReadFile(s.usedFile(app))
	there = err == nil && json.Unmarshal(text, &p) == nil && p.App == app
	return p, there
}

func (s *Shelf) use(p Packed) error {
	text, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return atomicfile.Write(s.usedFile(p.App), text, 0o600)
}

func (s *Shelf) usedFile(app string) string { return filepath.Join(s.Folder, "kits", app+".json") }

func (s *Shelf) context() context.Context {
	if s.Context == nil {
		return context.Background()
	}
	return s.Context
}

func (s *Shelf) there(p Packed) bool {
	_, err := os.Stat(s.kitFolder(p))
	return err == nil
}

// have sees to it that a kit is here, unpacked.
func (s *Shelf) have(ctx context.Context, p Packed) error {
	folder := s.kitFolder(p)
	if s.there(p) {
		return nil
	}
	if err := os.MkdirAll(filepath.Dir(folder), 0o700); err != nil {
		return err
	}
	file, err := os.CreateTemp(filepath.Dir(folder), ".kit-")
	if err != nil {
		return err
	}
	defer os.Remove(file.Name())
	defer file.Close()
	content, _, err := s.open(ctx, p.File, "")
	if err == nil {
		_, err = io.Copy(file, io.LimitReader(content, p.Bytes+1))
		err = errors.Join(err, content.Close())
	}
	if err != nil {
		return s.broken("the kit of "+p.Title+" cannot be had", s.From+"/"+p.File,
			"Check the connection and try again. Nothing was touched.").Wrap(err)
	}
	_, err = file.Seek(0, io.SeekStart)
	if err == nil {
		err = archive.Verify(file, p.SHA256)
	}
	if err == nil {
		err = unpack(ctx, file, folder)
	}
	if err != nil {
		return s.broken("the kit of "+p.Title+" is not the one that the catalogue "+s.Name+" names", s.From+"/"+p.File,
			"Tell its publisher. Nothing was touched.").Wrap(err)
	}
	return nil
}

// get reads a small file of the catalogue, and its tag.
func (s *Shelf) get(ctx context.Context, name, tag string) ([]byte, string, error) {
	content, tag, err := s.open(ctx, name, tag)
	if err != nil {
		return nil, "", err
	}
	defer content.Close()
	text, err := io.ReadAll(io.LimitReader(content, largest+1))
	if err == nil && len(text) > largest {
		err = fmt.Errorf("%s is larger than %d bytes", name, largest)
	}
	return text, tag, err
}

// open opens a file of the catalogue; fetch.ErrSame where it is the one of the tag.
func (s *Shelf) open(ctx context.Context, name, tag string) (io.ReadCloser, string, error) {
	if !s.remote() {
		root, err := os.OpenRoot(s.From)
		if err != nil {
			return nil, "", err
		}
		defer root.Close()
		file, err := root.Open(name)
		return file, "", err
	}
	return fetch.Get(ctx, s.Client, strings.TrimSuffix(s.From, "/")+"/"+name, tag, fetchTime)
}
