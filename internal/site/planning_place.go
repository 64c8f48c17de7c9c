package site

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"

	"github.com/dustin/go-humanize"

	"tivset/internal/fault"
	"tivset/internal/files"
	"tivset/internal/place"
)

// lookAtPlace finds out what is at the place now.
func (s *Service) lookAtPlace(ctx context.Context, p *Plan, fsys files.FS) error {
	folder := p.place.Folder()
	p.Place = PlanPlace{URL: p.place.URL(), Folder: folder, State: "new"}
	switch _, err := s.Ledger.Site(ctx, p.place.Address()); {
	case err == nil:
		return siteIsThere(p)
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	if there, err := files.Exists(ctx, fsys, p.place.Domain.Folder); err != nil || !there {
		return fault.New(fault.Failed, "the document root of "+p.place.Domain.Name+" is not there", p.place.Domain.Folder, "Correct the folder of this domain in the account, or make it.").Because(err)
	}
	inside, err := fsys.List(ctx, folder)
	if errors.Is(err, fs.ErrNotExist) {
		return s.notAFile(ctx, p, fsys)
	}
	if err != nil {
		return unreachable(p.account, err)
	}
	p.Place.State = "empty"
	nested, err := s.nested(ctx, p)
	if err != nil {
		return err
	}
	var inTheWay []string
	for _, i := range inside {
		if slices.Contains(nested, path.Join(folder, i.Name)) {
			p.Place.State = "beside"
			continue
		}
		inTheWay = append(inTheWay, describe(i))
	}
	if len(inTheWay) > 0 {
		return occupied(p, inTheWay)
	}
	return nil
}

func siteIsThere(p *Plan) error {
	return fault.New(fault.Decision, "a site is at this address already", p.Place.URL, "Choose another directory, or look at it with: tivset show "+p.place.Address())
}

func (s *Service) notAFile(ctx context.Context, p *Plan, fsys files.FS) error {
	i, err := fsys.Stat(ctx, p.place.Folder())
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return unreachable(p.account, err)
	}
	return occupied(p, []string{describe(i)})
}

// nested lists the folders of recorded sites that lie below the place.
func (s *Service) nested(ctx context.Context, p *Plan) ([]string, error) {
	sites, err := s.Ledger.Sites(ctx)
	var out []string
	for _, other := range sites {
		if other.Account == p.Account && other.Folder != p.place.Folder() && place.Within(other.Folder, p.place.Folder()) {
			out = append(out, other.Folder)
		}
	}
	return out, err
}

func describe(i files.Info) string {
	size := humanize.Bytes(uint64(i.Size))
	name := i.Name
	if i.IsDir() {
		size, name = "folder", name+"/"
	}
	return fmt.Sprintf("%-32s %10s   %s", name, size, i.Modified.UTC().Format("2006-01-02 15:04"))
}

func occupied(p *Plan, inTheWay []string) error {
	const most = 15
	if len(inTheWay) > most {
		inTheWay = append(inTheWay[:most], fmt.Sprintf("… and %d more", len(inTheWay)-most))
	}
	return &fault.Error{Kind: fault.Decision, What: "something is in the way", Where: p.Place.Folder, Details: inTheWay,
		Remedy: "Choose another directory with --at, or move these away yourself. Nothing was touched."}
}

// lookAtLayout makes sure that nothing of the app would land on another site.
func (s *Service) lookAtLayout(ctx context.Context, p *Plan) error {
	if p.Place.State != "beside" {
		return nil
	}
	nested, err := s.nested(ctx, p)
	if err != nil {
		return err
	}
	for _, entry := range p.survey.Entries {
		for _, other := range nested {
			if place.Within(other, path.Join(p.Place.Folder, entry)) {
				return occupied(p, []string{entry + "/ is on the way to another site, " + other})
			}
		}
	}
	return nil
}
