package catalogues

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/fetch"
	"tivset/internal/app/index"
	"tivset/internal/fault"
	"tivset/internal/records/home"
)

// Adding is a catalogue to add.
type Adding struct {
	Name string
	From string // a folder, or an https address; empty for the built-in one
	Key  string // the publisher's key, or a file that holds it
	// Accept says whether a key that was found beside the index is the right one; nil
	// where nobody can be asked.
	Accept func(key string) bool
}

// Added is what a catalogue brought.
type Added struct {
	Name    string              `json:"name"`
	Kits    int                 `json:"kits"`
	Faulty  []error             `json:"-"`
	Doubled map[string][]string `json:"doubled"` // apps of it that other catalogues have too, with all that have them
}

// Add adds a catalogue.
func (k *Keeper) Add(ctx context.Context, a Adding) (*Added, error) {
	list, err := k.Home.Catalogues()
	switch {
	case err != nil:
		return nil, err
	case slices.Contains(list.Names(), a.Name):
		return nil, fault.New(fault.Usage, "there is a catalogue "+a.Name+" already", "",
			"Take another name, or forget that one first: "+fault.Call("catalogue", "forget", a.Name))
	case a.Name == home.BuiltInName && a.From == "":
		list.BuiltIn = true
	case a.Name == home.BuiltInName, !nameForm.MatchString(a.Name):
		return nil, fault.New(fault.Usage, "a catalogue cannot be called "+a.Name, "", "Take a name of a-z, 0-9 and -.")
	case a.From == "":
		return nil, fault.New(fault.Usage, "something is missing", "", "Say where it is: a folder, or an https address.")
	case strings.Contains(a.From, "://") && !remote(a.From):
		return nil, fault.New(fault.Usage, "catalogues are fetched over https only", a.From,
			"Write https://, or copy it into a folder.")
	case remote(a.From):
		err = k.addPublished(ctx, &list, a)
	default:
		err = k.addFolder(ctx, &list, a)
	}
	if err != nil {
		return nil, err
	}
	if err := k.Home.PutCatalogues(list); err != nil {
		return nil, err
	}
	return k.added(ctx, a.Name)
}

func remote(from string) bool { return strings.HasPrefix(from, "https://") }

// addFolder adds a folder of kits, or what is published in it.
func (k *Keeper) addFolder(ctx context.Context, list *home.Catalogues, a Adding) error {
	folder, err := filepath.Abs(a.From)
	if err != nil {
		return err
	}
	info, err := os.Stat(folder)
	if err == nil && !info.IsDir() {
		err = errors.New("it is no folder")
	}
	if err != nil {
		return fault.New(fault.Usage, "no catalogue is there", a.From, "Name a folder that holds one folder a kit.").
			Wrap(err)
	}
	a.From = folder
	if _, err := os.Stat(filepath.Join(folder, index.File)); err == nil {
		return k.addPublished(ctx, list, a)
	}
	if a.Key != "" {
		return fault.New(fault.Usage, "nothing is signed there", folder,
			"Leave --key out; or see that it has "+index.File+".")
	}
	list.Folders = append(list.Folders, home.Folder{Name: a.Name, Folder: folder})
	return nil
}

func (k *Keeper) addPublished(ctx context.Context, list *home.Catalogues, a Adding) error {
	a.From = strings.TrimSuffix(a.From, "/")
	key, err := k.trusted(ctx, a)
	if err != nil {
		return err
	}
	delete(k.shelves, a.Name) // of one that was called so before
	p := home.Published{Name: a.Name, From: a.From, Key: key}
	s, err := k.shelf(ctx, p)
	if err != nil {
		return err
	}
	if err := os.RemoveAll(s.Folder); err != nil {
		return err
	}
	if _, err := s.Refresh(ctx); err != nil {
		return err
	}
	list.Published = append(list.Published, p)
	return nil
}

// trusted is the key given; or the one that lies beside the index, once the owner says
// that it is the right one.
func (k *Keeper) trusted(ctx context.Context, a Adding) (string, error) {
	if a.Key != "" {
		if text, err := os.ReadFile(a.Key); err == nil {
			a.Key = string(text)
		}
		key, err := index.ParseKey(a.Key)
		if err != nil {
			return "", fault.New(fault.Usage, "that is no key", a.Key,
				"A key is one line that begins with RW, or a file with it.")
		}
		return key.String(), nil
	}
	text, err := k.beside(ctx, a.From)
	if err != nil {
		return "", fault.New(fault.Failed, "no signed catalogue is there", a.From, "Check the address. A published "+
			"catalogue has "+index.File+", "+index.Signature+" and "+index.KeyFile+".").Wrap(err)
	}
	key, err := index.ParseKey(text)
	if err != nil {
		return "", fault.New(fault.Failed, "the catalogue's key cannot be read", a.From+"/"+index.KeyFile,
			"Ask its publisher for the key, and give it with --key.").Wrap(err)
	}
	if a.Accept == nil || !a.Accept(key.String()) {
		return "", &fault.Error{Kind: fault.NeedsConfirmation, What: "the catalogue's key was not accepted", Where: a.From,
			Details: []string{key.String()}, Remedy: "When it is the one that its publisher names: " +
				fault.Call("catalogue", "add", a.Name, a.From, "--key", key.String())}
	}
	return key.String(), nil
}

// beside reads the key that lies beside an index.
func (k *Keeper) beside(ctx context.Context, from string) (string, error) {
	if !remote(from) {
		text, err := os.ReadFile(filepath.Join(from, index.KeyFile))
		return string(text), err
	}
	content, _, err := fetch.Get(ctx, k.Client, from+"/"+index.KeyFile, "", time.Minute)
	if err != nil {
		return "", err
	}
	defer content.Close()
	text, err := io.ReadAll(io.LimitReader(content, 4096))
	return string(text), err
}

// added tells what a catalogue brought, and what has to be decided now.
func (k *Keeper) added(ctx context.Context, name string) (*Added, error) {
	all, err := k.All(ctx)
	if err != nil {
		return nil, err
	}
	cards, faulty, err := all.Cards()
	if err != nil {
		return nil, err
	}
	out := &Added{Name: name, Faulty: faulty, Doubled: map[string][]string{}}
	in := map[string][]string{}
	for _, c := range cards {
		in[c.App] = append(in[c.App], c.Catalogue)
		if c.Catalogue == name {
			out.Kits++
		}
	}
	for app, names := range in {
		if len(names) > 1 && slices.Contains(names, name) {
			out.Doubled[app] = names
		}
	}
	return out, nil
}

// Listed is a catalogue as it stands.
type Listed struct {
	Name    string     `json:"name"`
	Kind    string     `json:"kind"` // folder, published or built-in
	From    string     `json:"from,omitempty"`
	Key     string     `json:"key,omitempty"`
	Serial  int        `json:"serial,omitempty"`
	Expires *time.Time `json:"expires,omitempty"`
	Looked  *time.Time `json:"looked,omitempty"` // when it was last asked for
	Kits    int        `json:"kits"`
	Faulty  int        `json:"faulty"`          // kits with mistakes
	Wrong   string     `json:"wrong,omitempty"` // why nothing of it can be installed
}

// List shows the catalogues as they are known here; it asks nobody.
func (k *Keeper) List(ctx context.Context) ([]Listed, error) {
	list, err := k.Home.Catalogues()
	if err != nil {
		return nil, err
	}
	all, err := k.All(ctx)
	if err != nil {
		return nil, err
	}
	out := []Listed{}
	for _, f := range list.Folders {
		out = append(out, Listed{Name: f.Name, Kind: "folder", From: f.Folder})
	}
	for _, p := range list.Published {
		x := Listed{Name: p.Name, Kind: "published", From: p.From, Key: p.Key}
		if err := k.known(ctx, p, &x); err != nil {
			x.Wrong = err.Error()
		}
		out = append(out, x)
	}
	if list.BuiltIn {
		out = append(out, Listed{Name: home.BuiltInName, Kind: "built-in"})
	}
	for i := range out {
		kits, faulty, err := all.Count(out[i].Name)
		if err != nil && out[i].Wrong == "" {
			out[i].Wrong = fault.Of(err).Error()
		}
		out[i].Kits, out[i].Faulty = kits, faulty
	}
	return out, nil
}

// known notes what is known of a published catalogue.
func (k *Keeper) known(ctx context.Context, p home.Published, x *Listed) error {
	s, err := k.shelf(ctx, p)
	if err != nil {
		return err
	}
	is, looked, err := s.State()
	if err != nil || is == nil {
		return err
	}
	x.Serial, x.Expires, x.Looked = is.Serial, &is.Expires, &looked
	if !k.Now().Before(is.Expires) {
		return errors.New("expired on " + is.Expires.Format(time.DateOnly))
	}
	return nil
}
