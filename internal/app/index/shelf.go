package index

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"time"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/fetch"
	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// Shelf is a published catalogue on an owner's machine: the last index whose signature
// held, and the kits that were used so far.
type Shelf struct {
	Name   string
	From   string // its https address, or its folder
	Key    PublicKey
	Folder string // where it is kept
	Client *http.Client
	Now    func() time.Time

	// Context bounds what is fetched when a kit is opened.
	Context context.Context //nolint:containedctx // a catalogue's readers know of no network

	kept *kept
}

// kept is what is kept of a shelf's index, in one file, which only a refresh writes.
type kept struct {
	Kept      int       `json:"kept"` // the format, 1
	Index     string    `json:"index"`
	Signature string    `json:"signature"`
	Tag       string    `json:"tag,omitempty"` // of the index, as its server names it (RFC 9110, ETag)
	Looked    time.Time `json:"looked"`        // when it was last asked for

	index *Index
}

const often = 24 * time.Hour

// News is what looking at a catalogue brought.
type News struct {
	Serial  int       `json:"serial"`
	Expires time.Time `json:"expires"`
	New     []string  `json:"new"`     // apps that it has now
	Changed []string  `json:"changed"` // apps whose kits are others
	Left    []string  `json:"left"`    // apps that have left it
	Kits    int       `json:"kits"`
}

func (s *Shelf) file() string { return filepath.Join(s.Folder, "kept.json") }

// read gives what is kept; nil where nothing was fetched yet.
func (s *Shelf) read() (*kept, error) {
	if s.kept != nil {
		return s.kept, nil
	}
	text, err := os.ReadFile(s.file())
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	k := &kept{}
	if err = json.Unmarshal(text, k); err == nil && k.Kept != form {
		err = fmt.Errorf("its format is %d, and this program reads %d", k.Kept, form)
	}
	if err == nil {
		k.index, err = Read([]byte(k.Index), []byte(k.Signature), s.Key)
	}
	if err != nil {
		return nil, s.broken("what is kept of the catalogue "+s.Name+" cannot be used", s.file(), "Have it fetched anew: "+
			fault.Call("catalogue", "forget", s.Name)+"; "+fault.Call("catalogue", "add", s.Name, s.From)).Wrap(err)
	}
	s.kept = k
	return k, nil
}

func (s *Shelf) broken(what, where, remedy string) *fault.Error {
	return fault.New(fault.Failed, what, where, remedy)
}

// Refresh asks for the index, and keeps it when it is signed, valid, and no older than
// the one before. Where it has not changed that takes one request.
func (s *Shelf) Refresh(ctx context.Context) (News, error) {
	before, err := s.read()
	if err != nil {
		return News{}, err
	}
	if before == nil {
		before = &kept{index: &Index{}}
	}
	next, err := s.fetch(ctx, before)
	if err != nil {
		return News{}, s.refused(err)
	}
	if s.remote() || next.index != before.index {
		err = s.keep(next)
	}
	if err != nil {
		return News{}, err
	}
	return news(before.index, next.index), nil
}

// Fresh refreshes what was not asked for within a day; a folder each time.
func (s *Shelf) Fresh(ctx context.Context) error {
	k, err := s.read()
	if err != nil {
		return err
	}
	if age := s.Now().Sub(looked(k)); s.remote() && age >= 0 && age < often {
		return nil
	}
	_, err = s.Refresh(ctx)
	return err
}

func looked(k *kept) time.Time {
	if k == nil {
		return time.Time{}
	}
	return k.Looked
}

// refused words why an index is not taken.
func (s *Shelf) refused(err error) error {
	var f *fault.Error
	if errors.As(err, &f) {
		return err
	}
	return s.broken("the catalogue "+s.Name+" cannot be refreshed", s.From,
		"Check the address and the connection. What was known of it holds.").Wrap(err)
}

func (s *Shelf) fetch(ctx context.Context, before *kept) (*kept, error) {
	next := &kept{Kept: form, Looked: s.Now().UTC()}
	for again := range 2 { // the publisher may be at work between the two
		text, tag, err := s.get(ctx, File, before.Tag)
		if err == nil && string(text) == before.Index {
			err = fetch.ErrSame
		}
		if errors.Is(err, fetch.ErrSame) {
			next.Index, next.Signature, next.Tag, next.index = before.Index, before.Signature, before.Tag, before.index
			return next, s.valid(next.index)
		}
		if err != nil {
			return nil, err
		}
		signature, _, err := s.get(ctx, Signature, "")
		if err != nil {
			return nil, err
		}
		next.Index, next.Signature, next.Tag = string(text), string(signature), tag
		next.index, err = Read(text, signature, s.Key)
		switch {
		case errors.Is(err, ErrKey) && again == 0:
			continue
		case err != nil:
			return nil, s.broken("the index of the catalogue "+s.Name+" is refused", s.From,
				"Its key is "+KeyID(s.Key)+": ask its publisher. Where they have a new one, forget the catalogue and "+
					"add it again with that. What was known of it holds.").Wrap(err)
		}
		break
	}
	return next, s.follows(before, next)
}

// follows says why an index cannot come after the one before.
func (s *Shelf) follows(before, next *kept) error {
	was, is := before.index, next.index
	old := s.broken("the index of the catalogue "+s.Name+" is older than the one that is known", s.From,
		"Somebody may be keeping newer kits from you: ask its publisher. What was known of it holds.")
	switch {
	case is.Serial < was.Serial, is.Serial == was.Serial && next.Index != before.Index:
		return old.Wrap(fmt.Errorf("its serial number is %d, after %d", is.Serial, was.Serial))
	case s.valid(is) != nil:
		return s.valid(is)
	}
	for app := range was.Kits {
		if v := is.version(app); v < was.version(app) {
			return old.Wrap(fmt.Errorf("the kit of %s has version %d, after %d", app, v, was.version(app)))
		}
	}
	return nil
}

// valid says that an index has ended.
func (s *Shelf) valid(x *Index) error {
	if s.Now().Before(x.Expires) {
		return nil
	}
	return s.broken("the catalogue "+s.Name+" is valid until "+x.Expires.Format("2006-01-02 15:04")+" UTC only", s.From,
		"Fetch a newer one: "+fault.Call("catalogue", "refresh", s.Name)+"; where there is none, ask its publisher. "+
			"Sites that are there are looked after anyway.")
}

func (s *Shelf) keep(k *kept) error {
	text, err := json.Marshal(k)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(s.Folder, 0o700); err != nil {
		return err
	}
	s.kept = k
	return atomicfile.Write(s.file(), text, 0o600)
}

func news(was, is *Index) News {
	n := News{Serial: is.Serial, Expires: is.Expires, New: []string{}, Changed: []string{}, Left: []string{},
		Kits: len(is.Kits)}
	for app, p := range is.Kits {
		switch before, there := was.Kits[app]; {
		case !there:
			n.New = append(n.New, app)
		case before.SHA256 != p.SHA256:
			n.Changed = append(n.Changed, app)
		}
	}
	for app := range was.Kits {
		if _, there := is.Kits[app]; !there {
			n.Left = append(n.Left, app)
		}
	}
	for _, list := range [][]string{n.New, n.Changed, n.Left} {
		slices.Sort(list)
	}
	return n
}

// State is what is known of a shelf: the index (nil before it was fetched), and when it
// was last asked for.
func (s *Shelf) State() (*Index, time.Time, error) {
	k, err := s.read()
	if k == nil || err != nil {
		return nil, time.Time{}, err
	}
	return k.index, k.Looked, nil
}

// Cards implements catalogue.Published.
func (s *Shelf) Cards() ([]catalogue.Card, error) {
	k, err := s.read()
	if err != nil || k == nil {
		return nil, err
	}
	var out []catalogue.Card
	for _, p := range k.index.Kits {
		out = append(out, p.Card)
	}
	return out, nil
}
