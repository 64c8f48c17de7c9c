package release

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"path"
	"slices"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/app/kit"
	"tivset/internal/hosting/files"
)

// Compared is how a site's files differ from those of its release. Names are
// those below the site's folder.
type Compared struct {
	Changed []string `json:"changed"` // the release's own files with other content
	Missing []string `json:"missing"` // the release's own files that are gone
	Added   []string `json:"added"`   // files among the app's that are neither the release's nor written by the app
	// what a web server may run, anywhere in the site's folder, that are not part of the app for; judged by a check
	Programs []string `json:"programs"`
}

// NothingCompared is a comparison that found no difference.
func NothingCompared() Compared { return Compared{[]string{}, []string{}, []string{}, []string{}} }

// IndexPage is the page that keeps a server from listing a folder, where the app has none.
const IndexPage = "<!doctype html><title></title><!-- Tivset: this folder is not to be listed -->\n"

// IsIndexPage says whether a file is that page, by its name and size.
func IsIndexPage(f files.Found) bool {
	return path.Base(f.Path) == "index.html" && f.Mode.IsRegular() && f.Size == int64(len(IndexPage))
}

// Content is what a release puts into a site's folder.
type Content struct {
	Sums   map[string]string // SHA-256 in hexadecimal, by name below the site's folder
	Own    []string          // what belongs to the site besides: configuration, what the app writes
	Shared []string          // what the app and its owner share: what is missing there was taken away rightly
	Other  map[string]string // the same of what the archive has in Own, and of what a site does not get or keep
	Survey archive.Survey    // of the archive
	File   string            // the archive, on this machine
}

// Layout is how a release lies in a site's folder.
type Layout struct {
	Leaves  []string // parts of the archive that the site does not get
	Removed []string // parts that the set-up took away
	Own     []string // what belongs to the site besides
	Shared  []string // what app and owner share
	Renamed [2]string
}

// Read finds out what a release's archive puts into a folder of this layout.
func Read(ctx context.Context, file string, r *kit.Release, l Layout) (Content, error) {
	c := Content{Sums: map[string]string{}, Other: map[string]string{}, Own: l.Own, Shared: l.Shared, File: file}
	var err error
	if c.Survey, err = Survey(ctx, file, r, l.Leaves); err != nil {
		return c, err
	}
	all, err := sums(ctx, file, r.Archive.Top)
	if err != nil {
		return c, err
	}
	gone := append(slices.Clone(l.Leaves), l.Removed...)
	for name, sum := range all {
		into := c.Sums
		if archive.Skipped(name, gone) || archive.Skipped(name, l.Own) {
			into = c.Other
		}
		if from := l.Renamed[0]; from != "" && strings.HasPrefix(name, from+"/") {
			name = l.Renamed[1] + name[len(from):]
		}
		into[name] = sum
	}
	return c, nil
}

// Folder is a site's folder, to be compared.
type Folder struct {
	Files   files.FS
	Name    string   // from the account's top
	Entries []string // what of it is the site's
	Others  files.Others
	There   map[string]files.Found // what was found to be in it (All), nil to look
}

// All lists what of the folder is the site's, by names below it.
func (f Folder) All(ctx context.Context) (map[string]files.Found, error) {
	if f.There != nil {
		return f.There, nil
	}
	there := map[string]files.Found{}
	for _, name := range f.Entries {
		if err := f.Entry(ctx, name, there); err != nil {
			return nil, err
		}
	}
	return there, nil
}

// Compare compares a site's folder with its release by names and, where wanted,
// by content. Count is told how far it is.
func Compare(ctx context.Context, f Folder, of Content, content bool, count func(n, total int64,
	unit string)) (Compared, error) {
	c := NothingCompared()
	there, err := f.All(ctx)
	if err != nil {
		return c, err
	}
	var same []files.Found
	for name, found := range there {
		_, known := of.Sums[name]
		switch {
		case found.IsDir():
		case known && content:
			same = append(same, found)
		case known || archive.Skipped(name, of.Own) || IsIndexPage(found):
		case of.Other[name] != "" && content: // the release's own, which was not taken away
			same = append(same, found)
		default:
			c.Added = append(c.Added, name)
		}
	}
	for name := range of.Sums {
		if _, is := there[name]; !is && !archive.Skipped(name, of.Shared) {
			c.Missing = append(c.Missing, name)
		}
	}
	err = f.changed(ctx, same, of, &c, count)
	for _, list := range []*[]string{&c.Changed, &c.Missing, &c.Added} {
		slices.Sort(*list)
	}
	return c, err
}

// changed reads the files of known names, and notes those of other content.
func (f Folder) changed(ctx context.Context, same []files.Found, of Content, c *Compared,
	count func(n, total int64, unit string)) error {
	slices.SortFunc(same, func(a, b files.Found) int { return strings.Compare(a.Path, b.Path) })
	done := 0
	return files.ReadAll(ctx, f.Files, same, func(found files.Found, content io.Reader) error {
		done++
		count(int64(done), int64(len(same)), "files")
		sum := sha256.New()
		if _, err := io.Copy(sum, content); err != nil {
			return err
		}
		name, got := strings.TrimPrefix(found.Path, f.Name+"/"), hex.EncodeToString(sum.Sum(nil))
		switch want, known := of.Sums[name]; {
		case known && got != want:
			c.Changed = append(c.Changed, name)
		case !known && got != of.Other[name]:
			c.Added = append(c.Added, name)
		}
		return nil
	})
}

// Entry lists one entry of the folder with all below it, by names below the
// folder; nothing for one that is not there, or that is others'.
func (f Folder) Entry(ctx context.Context, name string, into map[string]files.Found) error {
	full := path.Join(f.Name, name)
	there, err := files.Exists(ctx, f.Files, full)
	if err != nil || !there || f.Others.Has(full) {
		return err
	}
	info, err := f.Files.Stat(ctx, full)
	if err != nil {
		return err
	}
	into[name] = files.Found{Path: full, Info: info}
	if !info.IsDir() {
		return nil
	}
	below, err := files.Tree(ctx, f.Files, full, f.Others.Has)
	for _, found := range below {
		into[strings.TrimPrefix(found.Path, f.Name+"/")] = found
	}
	return err
}
