// Package catalogues keeps the list of catalogues: which there are, whose kit counts
// where several have one, and what the published ones have now.
package catalogues

import (
	"context"
	"io/fs"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/index"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/records/home"
	"tivset/internal/records/ledger"
	"tivset/internal/suggest"
)

// Keeper keeps the catalogues.
type Keeper struct {
	Home    home.Home
	BuiltIn fs.FS // the kits of the program
	Known   func(*kit.Kit)
	Client  *http.Client
	Now     func() time.Time

	shelves map[string]*index.Shelf // by name; what is kept of one is read once
}

// All is the kits of all catalogues, in the order of the list.
func (k *Keeper) All(ctx context.Context) (*catalogue.Catalogue, error) {
	list, err := k.Home.Catalogues()
	if err != nil {
		return nil, err
	}
	var sources []catalogue.Source
	for _, name := range list.Names() {
		s, err := k.source(ctx, list, name)
		if err != nil {
			return nil, err
		}
		sources = append(sources, s)
	}
	all := catalogue.New(sources...)
	all.Known, all.Decided, all.Notes = k.Known, list.Decided, k.Home.KitNotes()
	return all, nil
}

func (k *Keeper) source(ctx context.Context, list home.Catalogues, name string) (catalogue.Source, error) {
	for _, f := range list.Folders {
		if f.Name == name {
			return catalogue.Folder(f.Name, f.Folder), nil
		}
	}
	for _, p := range list.Published {
		if p.Name == name {
			s, err := k.shelf(ctx, p)
			return catalogue.Source{Name: p.Name, Published: s}, err
		}
	}
	return catalogue.Source{Name: home.BuiltInName, Files: k.BuiltIn}, nil
}

// shelf is a published catalogue on this machine.
func (k *Keeper) shelf(ctx context.Context, p home.Published) (*index.Shelf, error) {
	if s := k.shelves[p.Name]; s != nil && s.From == p.From && s.Key.String() == p.Key {
		s.Context = ctx
		return s, nil
	}
	key, err := index.ParseKey(p.Key)
	if err != nil {
		return nil, fault.New(fault.Usage, "the key of the catalogue "+p.Name+" cannot be read", p.Key,
			"Correct it in the list of catalogues (docs/formats.md).").Wrap(err)
	}
	s := &index.Shelf{Name: p.Name, From: p.From, Key: key, Folder: k.Home.Shelf(p.Name), Client: k.Client, Now: k.Now,
		Context: ctx}
	if k.shelves == nil {
		k.shelves = map[string]*index.Shelf{}
	}
	k.shelves[p.Name] = s
	return s, nil
}

// freshTime is how long somebody waits for catalogues that had better be fresh.
const freshTime = 10 * time.Second

// Freshen asks for published catalogues, once a day at most. What does not answer holds
// nobody up: what was known counts, and what went wrong is told.
func (k *Keeper) Freshen(ctx context.Context) (wrong []error) {
	list, err := k.Home.Catalogues()
	if err != nil {
		return nil // who reads the list meets it
	}
	short, cancel := context.WithTimeout(ctx, freshTime)
	defer cancel()
	for _, p := range list.Published {
		s, err := k.shelf(ctx, p)
		if err == nil {
			err = s.Fresh(short)
		}
		if err != nil {
			wrong = append(wrong, err)
		}
	}
	return wrong
}

// Refreshed is what looking at a catalogue brought.
type Refreshed struct {
	Name string `json:"name"`
	index.News
}

// Refresh asks for a published catalogue now.
func (k *Keeper) Refresh(ctx context.Context, name string) (*Refreshed, error) {
	list, err := k.Home.Catalogues()
	if err != nil {
		return nil, err
	}
	at := slices.IndexFunc(list.Published, func(p home.Published) bool { return p.Name == name })
	if at < 0 {
		return nil, none(name, Published(list))
	}
	s, err := k.shelf(ctx, list.Published[at])
	if err != nil {
		return nil, err
	}
	news, err := s.Refresh(ctx)
	return &Refreshed{name, news}, err
}

// Published lists the catalogues that others publish.
func Published(list home.Catalogues) []string {
	var out []string
	for _, p := range list.Published {
		out = append(out, p.Name)
	}
	return out
}

func none(name string, names []string) error {
	return fault.New(fault.Usage, "no catalogue is called "+name, "", strings.TrimSpace(suggest.Hint(name, names)+
		" See them with: "+fault.Call("catalogue", "list")))
}

// Use decides whose kit counts for an app.
func (k *Keeper) Use(ctx context.Context, app, name string) error {
	list, err := k.Home.Catalogues()
	if err != nil {
		return err
	}
	if !slices.Contains(list.Names(), name) {
		return none(name, list.Names())
	}
	s, err := k.source(ctx, list, name)
	if err != nil {
		return err
	}
	if _, err := catalogue.New(s).Find(app); err != nil {
		return fault.New(fault.Usage, "the catalogue "+name+" has no kit of "+app+" that can be used", "",
			"See what there is with: "+fault.Call("browse")).Wrap(err)
	}
	if list.Decided == nil {
		list.Decided = map[string]string{}
	}
	list.Decided[app] = name
	return k.Home.PutCatalogues(list)
}

// Needed lists the addresses of sites that nobody could look after without a catalogue.
func (k *Keeper) Needed(ctx context.Context, name string, sites []ledger.Site) ([]string, error) {
	list, err := k.Home.Catalogues()
	if err != nil {
		return nil, err
	}
	if !slices.Contains(list.Names(), name) {
		return nil, none(name, list.Names())
	}
	var others []catalogue.Source
	for _, other := range list.Names() {
		s, err := k.source(ctx, list, other)
		if err != nil {
			continue // it gives no kit
		}
		if other != name {
			others = append(others, s)
		}
	}
	without := catalogue.New(others...)
	out := []string{}
	for _, x := range sites {
		if _, err := without.Find(x.App); err != nil && fault.Of(err).Kind != fault.NeedsConfirmation {
			out = append(out, x.Address)
		}
	}
	return out, nil
}

// Forget drops a catalogue, with all that is kept of it. Its folder or address is left
// alone.
func (k *Keeper) Forget(name string) error {
	list, err := k.Home.Catalogues()
	if err != nil {
		return err
	}
	list.Folders = slices.DeleteFunc(list.Folders, func(f home.Folder) bool { return f.Name == name })
	list.Published = slices.DeleteFunc(list.Published, func(p home.Published) bool { return p.Name == name })
	list.BuiltIn = list.BuiltIn && name != home.BuiltInName
	for app, of := range list.Decided {
		if of == name {
			delete(list.Decided, app)
		}
	}
	if err := k.Home.PutCatalogues(list); err != nil || !nameForm.MatchString(name) {
		return err
	}
	delete(k.shelves, name)
	return os.RemoveAll(k.Home.Shelf(name))
}

var nameForm = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)
