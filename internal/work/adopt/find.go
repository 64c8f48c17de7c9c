package adopt

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/release"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/place"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/work"
)

// Limits of a walk through an account.
const (
	deepest     = 4     // folders below a document root
	mostFolders = 5_000 // that are looked at
	atATime     = 4
)

// Sighting is an app that lies in an account, or something that no kit knows.
type Sighting struct {
	At       place.Place `json:"-"`
	Address  string      `json:"address"`
	Folder   string      `json:"folder"`
	App      string      `json:"app,omitempty"`     // "" for something that no kit knows
	Title    string      `json:"title,omitempty"`   // the app's
	Release  string      `json:"release,omitempty"` // as its files say
	Date     string      `json:"date,omitempty"`    // of that release; "" where the kit does not know it
	Newest   string      `json:"newest,omitempty"`  // the app's newest release
	Recorded bool        `json:"recorded"`          // it is in the ledger already
	Problem  string      `json:"problem,omitempty"` // why it cannot be managed as it is
	Changed  *time.Time  `json:"changed,omitempty"` // of something that no kit knows: when its first page was
}

// Adoptable says whether an app can be managed.
func (s Sighting) Adoptable() bool { return s.App != "" && !s.Recorded && s.Problem == "" }

// Seen is what a walk through an account found.
type Seen struct {
	Account string     `json:"account"`
	All     []Sighting `json:"found"`
	Folders int        `json:"folders"` // that were looked at
	Cut     bool       `json:"cut"`     // there were more, which were not
	Unread  []string   `json:"unread"`  // folders that could not be read
}

// Find walks an account's document roots and tells which apps are there, by the marks of
// the kits. It changes nothing.
func Find(ctx context.Context, d *work.Service, account string) (*Seen, error) {
	a, err := d.Book.Home.Account(account)
	if err != nil {
		return nil, err
	}
	in, err := d.Hosting.Open(ctx, a)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	cards, _, err := d.Book.Catalogue.Cards()
	if err != nil {
		return nil, err
	}
	recorded, err := d.Book.Ledger.Sites(ctx)
	if err != nil {
		return nil, err
	}
	w := &walk{desk: d, in: in, cards: cards, seen: &Seen{Account: a.Name, All: []Sighting{}, Unread: []string{}},
		recorded: map[string]ledger.Site{}, been: map[string]bool{}}
	for _, x := range recorded {
		if x.Account == a.Name {
			w.recorded[x.Folder] = x
		}
	}
	err = w.all(ctx)
	slices.SortFunc(w.seen.All, func(a, b Sighting) int { return cmp.Compare(a.Address, b.Address) })
	return w.seen, err
}

// walk is one way through an account, a level of folders after the other.
type walk struct {
	desk     *work.Service
	in       *hosting.Account
	cards    []catalogue.Card
	recorded map[string]ledger.Site // by their folders
	been     map[string]bool
	seen     *Seen
}

// stop is a folder on the way.
type stop struct {
	at     place.Place
	deep   int
	within bool // of an app, or of something that no kit knows
}

// looked is what was found in a folder.
type looked struct {
	sighting *Sighting
	further  []stop
	unread   bool
}

func (w *walk) all(ctx context.Context) error {
	var level []stop
	for _, domain := range w.in.Domains {
		level = append(level, stop{at: place.Place{Domain: domain}})
	}
	for len(level) > 0 {
		var now []stop
		for _, s := range level {
			if folder := s.at.Folder(); !w.been[folder] {
				w.been[folder] = true
				now = append(now, s)
			}
		}
		if room := mostFolders - w.seen.Folders; len(now) > room {
			now, w.seen.Cut = now[:room], true
		}
		found, err := w.level(ctx, now)
		if err != nil {
			return err
		}
		w.seen.Folders += len(now)
		level = nil
		for i, f := range found {
			if f.sighting != nil {
				w.seen.All = append(w.seen.All, *f.sighting)
			}
			if f.unread {
				w.seen.Unread = append(w.seen.Unread, now[i].at.Folder())
			}
			level = append(level, f.further...)
		}
	}
	return nil
}

// level looks into folders side by side.
func (w *walk) level(ctx context.Context, stops []stop) ([]looked, error) {
	out := make([]looked, len(stops))
	var group errgroup.Group
	group.SetLimit(atATime)
	for i, s := range stops {
		group.Go(func() (err error) {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			out[i], err = w.look(ctx, s)
			return err
		})
	}
	return out, group.Wait()
}

// look looks into a folder: which app it is, and which folders may hold others.
func (w *walk) look(ctx context.Context, s stop) (out looked, err error) {
	folder := s.at.Folder()
	inside, err := w.in.Files.List(ctx, folder)
	var about *fs.PathError
	if errors.As(err, &about) { // not there, or not ours to read; a connection that is lost is another thing
		return looked{unread: true}, nil
	}
	if err != nil {
		return out, err
	}
	if out.sighting, err = w.sight(ctx, s.at, inside); err != nil {
		return out, err
	}
	if out.sighting != nil && out.sighting.App == "" && s.within {
		out.sighting = nil // a part of it
	}
	within := s.within || out.sighting != nil
	own := map[string]bool{}
	if out.sighting != nil && out.sighting.App != "" {
		own = w.own(ctx, *out.sighting)
	}
	for _, i := range inside {
		name := strings.ToLower(i.Name)
		full := path.Join(folder, i.Name)
		if !i.IsDir() || strings.HasPrefix(name, ".") || own[i.Name] || full == w.in.Store().Top() || s.deep == deepest {
			continue
		}
		next := place.Place{Domain: s.at.Domain, Dir: path.Join(s.at.Dir, i.Name)}
		if _, err := site.Resolve(next.Domain.Name+next.Path(), w.in.Domains); err == nil {
			out.further = append(out.further, stop{next, s.deep + 1, within})
		}
	}
	return out, nil
}

// sight tells what lies in a folder; nil for nothing that is an app.
func (w *walk) sight(ctx context.Context, at place.Place, inside []files.Info) (*Sighting, error) {
	out := &Sighting{At: at, Address: at.Address(), Folder: at.Folder()}
	x, recorded := w.recorded[at.Folder()]
	out.Recorded = recorded
	names := map[string]files.Info{}
	for _, i := range inside {
		names[i.Name] = i
	}
	var possible []catalogue.Card
	for _, card := range w.cards {
		if card.Known == nil {
			continue
		}
		first, _, _ := strings.Cut(card.Known.File, "/")
		if _, is := names[first]; is {
			possible = append(possible, card)
		}
	}
	m, err := recognised(ctx, w.desk.Book.Catalogue, w.desk.Archives, w.in.Files, at.Folder(), possible)
	switch {
	case err != nil:
		return nil, err
	case m != nil:
		w.describe(out, m)
	case recorded:
		out.App, out.Release = x.App, x.Release
		out.Problem = "it is on record, and its marks are not in its files any more"
		if k, err := w.desk.Book.Catalogue.Find(x.App); err == nil {
			out.Title = k.Title
			if k.Known == nil {
				out.Problem = ""
			}
		}
	default:
		first, is := names["index.php"]
		if !is {
			return nil, nil
		}
		out.Changed = &first.Modified
	}
	return out, nil
}

// describe tells of an app by its kit.
func (w *walk) describe(out *Sighting, m *mark) {
	out.App, out.Title, out.Release, out.Newest = m.kit.App, m.kit.Title, m.release, m.kit.Newest().Release
	known := m.kit.Find(m.release)
	switch {
	case known != nil:
		out.Release, out.Date = known.Release, known.Date
	case !out.Recorded:
		out.Problem = "its release is none that the kit knows: " + strings.Join(m.kit.Versions(), ", ")
	}
}

// own are the folders of an app that are its release's: nobody else's app is looked for
// there. Where the release's content cannot be had, what is usual in apps.
func (w *walk) own(ctx context.Context, s Sighting) map[string]bool {
	out := map[string]bool{}
	for _, name := range []string{"vendor", "node_modules", "lib", "libs", "src", "cache", "tmp"} {
		out[name] = true
	}
	k, err := w.desk.Book.Catalogue.Find(s.App)
	if err != nil {
		return out
	}
	for _, name := range append(k.Place.Writes(), k.Update.Keep...) {
		first, _, _ := strings.Cut(name, "/")
		out[first] = true
	}
	r := k.Find(s.Release)
	if r == nil {
		return out
	}
	file := w.desk.Archives.Kept(strings.ToLower(r.Archive.SHA256)) // nothing is fetched to look
	if file == "" {
		return out
	}
	survey, err := release.Survey(ctx, file, r, nil)
	if err != nil {
		return out
	}
	for _, name := range survey.Entries {
		out[name] = true
	}
	return out
}
