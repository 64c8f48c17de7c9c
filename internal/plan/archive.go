package plan

import (
	"context"

	"tivset/internal/app/archive"
	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/site"
)

// gotten is what will be in the place.
type gotten struct {
	file   string // the archive on this machine; "" where the files come from a backup
	survey archive.Survey
	files  int
	bytes  int64
}

// lookAtArchive fetches and verifies the archive and reads it through, so that
// the plan says what it will make and a bad one is refused here.
func (pl *Planner) lookAtArchive(ctx context.Context, s *site.Site, r Request) (gotten, error) {
	if r.Carried != nil {
		x := r.Carried.Record
		s.Archive = x.Archive
		return gotten{files: x.Files, bytes: x.Bytes, survey: archive.Survey{Entries: x.Entries}}, nil
	}
	file, survey, err := Fetched(ctx, pl.Archives, s, release.Given{File: r.Archive, Sum: r.AcceptArchive})
	if err != nil {
		return gotten{}, err
	}
	files, bytes := filesOf(s, survey)
	return gotten{file, survey, files, bytes}, nil
}

// Fetched gives the archive of a site's release, and what is in it for the site.
// Given is a file here that is the archive, or "".
func Fetched(ctx context.Context, from *release.Archives, s *site.Site, given release.Given) (file string,
	found archive.Survey, err error) {
	if file, err = from.Fetch(ctx, s.Kit, s.Of, given); err != nil {
		return "", found, err
	}
	s.Archive = release.SumOf(file)
	found, err = release.Survey(ctx, file, s.Of, s.Leaves())
	if err != nil {
		err = fault.New(fault.Failed, "the archive of "+s.Title+" "+s.Release+" cannot be used", "",
			"Tell the kit's author. Nothing was touched.").Wrap(err)
	}
	return file, found, err
}

// filesOf adds up what will be in the place: the archive's files, without those
// that the set-up takes away, and the configuration files.
func filesOf(s *site.Site, found archive.Survey) (files int, bytes int64) {
	gone := s.SetUpOnly()
	for _, c := range s.Kit.Config {
		gone = append(gone, c.Path) // written anew, over one from the archive
	}
	files = len(s.Kit.Config)
	for name, size := range found.Sizes {
		if !archive.Skipped(name, gone) {
			files++
			bytes += size
		}
	}
	return files, bytes
}
