// Package catalogue finds kits: in the built-in catalogue, in folders, and in what
// others publish.
package catalogue

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/suggest"
)

// Source is a named set of kits: a folder that holds one folder a kit, or what
// somebody published.
type Source struct {
	Name      string
	Files     fs.FS
	Published Published // in place of Files
}

// Published is a set of kits that somebody signed, and keeps in order elsewhere.
type Published interface {
	// Cards tells of the kits that can be installed now.
	Cards() ([]Card, error)
	// Open gives a kit's folder; fs.ErrNotExist where it has none for the app. One that
	// may only be used for sites that are there already says why in withheld.
	Open(app string) (folder fs.FS, withheld, err error)
}

// Entry is a kit and the catalogue that it came from.
type Entry struct {
	*kit.Kit
	Catalogue string
	Withheld  error // why no release of it may be installed any more; sites that are there live on
}

// Catalogue is the set of kits at hand, read when they are asked for.
type Catalogue struct {
	sources []Source

	// Known puts the releases into a kit whose releases come by themselves; may be nil.
	Known func(*kit.Kit)
	// Decided names the catalogue whose kit counts for an app that several have.
	Decided map[string]string
	// Notes is a file in which is kept what kits in folders told; none when empty.
	Notes string
}

// New makes a catalogue of sources.
func New(sources ...Source) *Catalogue { return &Catalogue{sources: sources} }

// Find returns the kit of an app. A name that is not there is a usage fault that
// names the nearest one; an app that several catalogues have is for the owner to decide.
func (c *Catalogue) Find(app string) (Entry, error) {
	var found []Entry
	var wrong error
	for _, s := range c.sources {
		if !kit.IsName(app) {
			break // nor a path
		}
		if at := c.Decided[app]; at != "" && at != s.Name {
			continue
		}
		e, err := c.read(s, app)
		switch {
		case errors.Is(err, errNone):
		case err != nil:
			wrong = err
		default:
			found = append(found, e)
		}
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return Entry{}, undecided(app, found)
	case wrong != nil:
		return Entry{}, wrong
	}
	return Entry{}, c.none(app)
}

func undecided(app string, found []Entry) error {
	f := fault.NewAs(fault.NoKit, fault.NeedsConfirmation, "several catalogues have a kit of "+found[0].Title, app,
		"Say once which counts: "+fault.Call("catalogue", "use", app, found[0].Catalogue)+". Nothing was touched.")
	for _, e := range found {
		f.Details = append(f.Details, e.Catalogue+": "+e.Summary)
	}
	return f
}

func (c *Catalogue) none(app string) error {
	cards, _, err := c.Cards()
	if err != nil {
		return err
	}
	var names []string
	for _, card := range cards {
		names = append(names, card.App)
	}
	remedy := strings.TrimSpace(suggest.Hint(app, names) + " See what there is with: " + fault.Call("browse"))
	if at := c.Decided[app]; at != "" {
		remedy = "You decided for the catalogue " + at + ", which has none. See the catalogues with: " +
			fault.Call("catalogue", "list")
	}
	return fault.NewAs(fault.NoKit, fault.Usage, "no app is called "+app, "", remedy)
}

// errNone says that a source has no kit of the app.
var errNone = errors.New("no kit")

// read reads the kit of an app whole.
func (c *Catalogue) read(s Source, app string) (Entry, error) {
	folder, withheld, err := s.open(app)
	if err != nil {
		return Entry{}, err
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
	return Entry{k, s.Name, withheld}, nil
}

// open gives a kit's folder.
func (s Source) open(app string) (folder fs.FS, withheld, err error) {
	if s.Published != nil {
		folder, withheld, err := s.Published.Open(app)
		if errors.Is(err, fs.ErrNotExist) {
			err = errNone
		}
		return folder, withheld, err
	}
	if info, err := fs.Stat(s.Files, app); errors.Is(err, fs.ErrNotExist) || err == nil && !info.IsDir() {
		if _, err := fs.Stat(s.Files, "."); err != nil {
			return nil, nil, s.gone(err)
		}
		return nil, nil, errNone
	}
	if folder, err = fs.Sub(s.Files, app); err != nil {
		return nil, nil, fmt.Errorf("open kit %s: %w", app, err)
	}
	return folder, nil, nil
}

func (s Source) gone(cause error) error {
	return fault.NewAs(fault.NoKit, fault.Usage, "cannot read the catalogue "+s.Name, "",
		"Check that its folder is there, or do without: "+fault.Call("catalogue", "forget", s.Name)).Wrap(cause)
}
