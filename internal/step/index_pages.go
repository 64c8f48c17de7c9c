package step

import (
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"

	"tivset/internal/app/release"
	"tivset/internal/check"
	"tivset/internal/hosting/files"
)

// PutIndexPages has folders of the app that the server would list answer with an empty page, where the app has none.
type PutIndexPages struct {
	*Tools  `json:"-"`
	Folders []string `json:"folders"`
}

// Kind and Title implement job.Step.
func (*PutIndexPages) Kind() string  { return "put-index-pages" }
func (*PutIndexPages) Title() string { return "Keep the server from listing folders" }

// Prepare sees whether the server lists any, and lists those without a page of their own.
func (p *PutIndexPages) Prepare(ctx context.Context) error {
	p.Folders = nil
	v := &check.Visit{Site: p.Site, In: p.In, Maker: p.Maker, Now: p.Now, Once: true}
	if err := v.Open(); err != nil {
		return err
	}
	defer v.Close()
	listed, folders, err := v.Listed(ctx)
	if err != nil || !listed {
		return err
	}
	for _, name := range folders {
		inside, err := p.In.Files.List(ctx, path.Join(p.Site.Place.Folder, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		if !slices.ContainsFunc(inside, func(i files.Info) bool { return strings.HasPrefix(i.Name, "index.") }) {
			p.Folders = append(p.Folders, path.Join(p.Site.Place.Folder, name))
		}
	}
	return nil
}

// Do writes the pages.
func (p *PutIndexPages) Do(ctx context.Context) error {
	for i, folder := range p.Folders {
		if err := files.Write(ctx, p.In.Files, path.Join(folder, indexPage), []byte(release.IndexPage), 0o644); err != nil &&
			!errors.Is(err, fs.ErrExist) { // the app has made one meanwhile
			return err
		}
		p.Count(int64(i+1), int64(len(p.Folders)), "folders")
	}
	return nil
}

// indexPage is the name of such a page, which every server takes for one.
const indexPage = "index.html"

// Undo takes those away that are still ours.
func (p *PutIndexPages) Undo(ctx context.Context) error {
	for _, folder := range p.Folders {
		name := path.Join(folder, indexPage)
		text, err := files.Read(ctx, p.In.Files, name, int64(len(release.IndexPage)))
		var long *files.TooLong
		if errors.Is(err, fs.ErrNotExist) || errors.As(err, &long) || err == nil && string(text) != release.IndexPage {
			continue
		}
		if err != nil {
			return err
		}
		if err := p.In.Files.Remove(ctx, name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
