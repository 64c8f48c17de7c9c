package site

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"os"
	"path"
	"slices"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/hosting/files"
)

// Compared is how a site's files differ from those of its release. Names are
// those below the site's folder.
type Compared struct {
	Changed []string `json:"changed"` // the release's own files with other content
	Missing []string `json:"missing"` // the release's own files that are gone
	Added   []string `json:"added"`   // files among the app's that are neither the release's nor written by the app
}

// Same says whether nothing differs.
func (c Compared) Same() bool { return len(c.Changed)+len(c.Missing)+len(c.Added) == 0 }

// release is what a release puts into a site's folder.
type release struct {
	sums map[string]string // SHA-256 by name
	own  []string          // what belongs to the site besides: configuration, what the app writes
}

// releaseOf finds out what a plan's release consists of, from its archive.
func (s *Service) releaseOf(ctx context.Context, p *Plan) (release, error) {
	file, err := s.fetch(ctx, p.kit, p.release, "")
	if err != nil {
		return release{}, err
	}
	p.archive = file
	if p.survey, err = survey(ctx, file, p.release.Archive.Top, p.leaves()); err != nil {
		return release{}, err
	}
	all, err := sums(ctx, file, p.release.Archive.Top)
	if err != nil {
		return release{}, err
	}
	r := release{sums: map[string]string{}, own: slices.Clone(p.kit.Place.Writable)}
	r.own = append(r.own, p.kit.Update.Keep...)
	for _, c := range p.kit.Config {
		r.own = append(r.own, c.Path)
	}
	gone := p.leaves()
	for _, step := range p.kit.Setup {
		if holds(step.When, p.answers) {
			gone = append(gone, step.Remove...)
		}
	}
	for name, sum := range all {
		if archive.Skipped(name, gone) || archive.Skipped(name, r.own) {
			continue
		}
		if from, to := p.kit.Place.AdminFolder, p.Place.AdminFolder; from != "" && strings.HasPrefix(name, from+"/") {
			name = to + name[len(from):]
		}
		r.sums[name] = sum
	}
	return r, nil
}

// sums reads an archive's checksums, once.
func sums(ctx context.Context, name, top string) (map[string]string, error) {
	return cached(name+".sums", top, nil, func(found map[string]string) bool { return len(found) > 0 }, func() (map[string]string, error) {
		file, err := os.Open(name)
		if err != nil {
			return nil, err
		}
		defer file.Close()
		return archive.Sums(ctx, file, top, nil, archive.DefaultLimits)
	})
}

// compare compares a site's files with those of its release, by their names and,
// where wanted, by their content.
func (e *env) compare(ctx context.Context, p *Plan, entries []string, r release, content bool) (Compared, error) {
	c := Compared{Changed: []string{}, Missing: []string{}, Added: []string{}}
	others, err := e.foreign(ctx, p)
	if err != nil {
		return c, err
	}
	there := map[string]files.Found{}
	for _, name := range entries {
		if err := e.entry(ctx, p, name, others, there); err != nil {
			return c, err
		}
	}
	var same []files.Found
	for name, found := range there {
		_, known := r.sums[name]
		switch {
		case found.IsDir():
		case known && content:
			same = append(same, found)
		case known:
		case !archive.Skipped(name, r.own):
			c.Added = append(c.Added, name)
		}
	}
	for name := range r.sums {
		if _, is := there[name]; !is {
			c.Missing = append(c.Missing, name)
		}
	}
	slices.SortFunc(same, func(a, b files.Found) int { return strings.Compare(a.Path, b.Path) })
	done := 0
	err = readAll(ctx, e.files, same, func(f files.Found, content io.Reader) error {
		done++
		e.count(int64(done), int64(len(same)), "files")
		sum := sha256.New()
		if _, err := io.Copy(sum, content); err != nil {
			return err
		}
		if name := strings.TrimPrefix(f.Path, p.Place.Folder+"/"); hex.EncodeToString(sum.Sum(nil)) != r.sums[name] {
			c.Changed = append(c.Changed, name)
		}
		return nil
	})
	for _, list := range []*[]string{&c.Changed, &c.Missing, &c.Added} {
		slices.Sort(*list)
	}
	return c, err
}

// entry lists one entry of a site, with all below it, by names below its folder.
func (e *env) entry(ctx context.Context, p *Plan, name string, others foreign, into map[string]files.Found) error {
	full := path.Join(p.Place.Folder, name)
	there, err := files.Exists(ctx, e.files, full)
	if err != nil || !there || others.has(full) {
		return err
	}
	info, err := e.files.Stat(ctx, full)
	if err != nil {
		return err
	}
	into[name] = files.Found{Path: full, Info: info}
	if !info.IsDir() {
		return nil
	}
	below, err := files.Tree(ctx, e.files, full, others.has)
	for _, f := range below {
		into[strings.TrimPrefix(f.Path, p.Place.Folder+"/")] = f
	}
	return err
}

// besides lists the largest parts of an entry that hold none of the names given.
func besides(ctx context.Context, f files.FS, full string, keep foreign) ([]string, error) {
	if keep.has(full) {
		return nil, nil
	}
	if !keep.below(full) {
		return []string{full}, nil
	}
	return movable(ctx, f, full, keep)
}
