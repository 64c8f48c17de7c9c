// Package catalogue finds kits: in the built-in catalogue and in folders.
package catalogue

import (
	"cmp"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/near"
)

// Source is a named folder that holds one folder a kit.
type Source struct {
	Name  string
	Files fs.FS
}

// Folder is a catalogue in a folder of this machine. Of each kit nothing outside
// of the kit's own folder is ever read, whatever its links and names say.
func Folder(name, folder string) Source { return Source{name, rooted(folder)} }

// rooted is a folder out of which nothing leads, with subfolders out of which
// nothing leads either. It is opened when something is read.
type rooted string

// Open implements fs.FS.
func (r rooted) Open(name string) (fs.File, error) {
	root, err := os.OpenRoot(string(r))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return root.FS().Open(name)
}

// Sub implements fs.SubFS.
func (r rooted) Sub(dir string) (fs.FS, error) {
	root, err := os.OpenRoot(string(r))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	if info, err := root.Lstat(dir); err == nil && !info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: dir, Err: fs.ErrInvalid}
	}
	return rooted(filepath.Join(string(r), filepath.FromSlash(dir))), nil
}

// Entry is a kit and the catalogue that it came from.
type Entry struct {
	*kit.Kit
	Catalogue string
}

// Catalogue is the set of kits at hand, read when they are asked for.
type Catalogue struct {
	sources []Source

	// Known puts the releases into a kit whose releases come by themselves; may be nil.
	Known func(*kit.Kit)
}

// New makes a catalogue of sources; of two kits for one app the first wins.
func New(sources ...Source) *Catalogue { return &Catalogue{sources: sources} }

// All reads every kit without mistakes, sorted by title.
func (c *Catalogue) All() ([]Entry, error) {
	all, _, err := c.Look()
	return all, err
}

// Look reads every kit, sorted by title, and says what is wrong with those that have
// mistakes: they hide no other.
func (c *Catalogue) Look() (out []Entry, faulty []error, err error) {
	seen := map[string]bool{}
	for _, s := range c.sources {
		folders, err := fs.ReadDir(s.Files, ".")
		if err != nil {
			return nil, nil, fault.New(fault.Usage, "cannot read the catalogue "+s.Name, "",
				"Check that its folder is there.").Because(err)
		}
		for _, f := range folders {
			if !f.IsDir() || seen[f.Name()] || strings.HasPrefix(f.Name(), ".") {
				continue
			}
			e, err := c.read(s, f.Name())
			seen[f.Name()] = true
			if err != nil {
				faulty = append(faulty, err)
				continue
			}
			out = append(out, e)
		}
	}
	slices.SortFunc(out, func(a, b Entry) int { return cmp.Compare(strings.ToLower(a.Title), strings.ToLower(b.Title)) })
	return out, faulty, nil
}

func (c *Catalogue) read(s Source, app string) (Entry, error) {
	folder, err := fs.Sub(s.Files, app)
	if err != nil {
		return Entry{}, fmt.Errorf("open kit %s: %w", app, err)
	}
	k, err := kit.Read(folder, app)
	if err != nil {
		return Entry{}, err
	}
	if k.App != app {
		return Entry{}, fault.New(fault.Usage, "the kit in the folder "+app+" is for "+k.App, s.Name,
			"Give the folder the app's name.")
	}
	if c.Known != nil {
		c.Known(k)
	}
	return Entry{k, s.Name}, nil
}

// Find returns the kit of an app. A name that is not there is a usage fault
// that names the nearest one.
func (c *Catalogue) Find(app string) (Entry, error) {
	var names []string
	for _, s := range c.sources {
		folders, err := fs.ReadDir(s.Files, ".")
		if err != nil {
			return Entry{}, fault.New(fault.Usage, "cannot read the catalogue "+s.Name, "",
				"Check that its folder is there.").Because(err)
		}
		for _, f := range folders {
			if f.IsDir() && f.Name() == app {
				return c.read(s, app)
			}
			names = append(names, f.Name())
		}
	}
	remedy := strings.TrimSpace(near.Hint(app, names) + " See what there is with: " + fault.Call("browse"))
	return Entry{}, fault.New(fault.Usage, "no app is called "+app, "", remedy)
}

// Search keeps the entries of a kind ("" for any) in which every word occurs.
func Search(all []Entry, kind string, words []string) []Entry {
	var out []Entry
	for _, e := range all {
		text := strings.ToLower(strings.Join([]string{e.App, e.Title, e.Kind, e.Summary}, " "))
		missing := slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, strings.ToLower(w)) })
		if !missing && (kind == "" || e.Kind == kind) {
			out = append(out, e)
		}
	}
	return out
}
