package catalogue

import (
	"cmp"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"tivset/internal/app/kit"
	"tivset/internal/atomicfile"
)

// Card is what is told of a kit where it is one of many.
type Card struct {
	App     string         `json:"app"`
	Title   string         `json:"title"`
	Kind    string         `json:"kind"`
	Summary string         `json:"summary"`
	Release string         `json:"release,omitempty"` // the newest; empty where they come by themselves
	Known   *kit.Recognise `json:"recognise,omitempty"`

	Catalogue string `json:"-"`
}

// CardOf tells of a kit.
func CardOf(k *kit.Kit) Card {
	return Card{App: k.App, Title: k.Title, Kind: k.Kind, Summary: k.Summary, Release: k.Newest().Release, Known: k.Known}
}

// Cards tells of every kit, sorted by title, and says what is wrong with those that
// have mistakes: they hide no other.
func (c *Catalogue) Cards() (out []Card, faulty []error, err error) {
	notes := c.readNotes()
	for _, s := range c.sources {
		cards, wrong, err := c.cardsOf(s, notes)
		if err != nil {
			return nil, nil, err
		}
		faulty = append(faulty, wrong...)
		for _, card := range cards {
			if at := c.Decided[card.App]; at == "" || at == s.Name {
				card.Catalogue = s.Name
				out = append(out, card)
			}
		}
	}
	notes.keep()
	slices.SortStableFunc(out,
		func(a, b Card) int { return cmp.Compare(strings.ToLower(a.Title), strings.ToLower(b.Title)) })
	return out, faulty, nil
}

func (c *Catalogue) cardsOf(s Source, notes *notes) (out []Card, faulty []error, err error) {
	if s.Published != nil {
		out, err = s.Published.Cards()
		return out, nil, err
	}
	apps, err := kitsIn(s.Files)
	if err != nil {
		return nil, nil, s.gone(err)
	}
	folder, _ := s.Files.(rooted)
	notes.look(folder, apps)
	for _, app := range apps {
		card, fresh := notes.of(folder, app)
		if !fresh {
			e, err := c.read(s, app)
			if errors.Is(err, errNone) {
				continue
			}
			if err != nil {
				faulty = append(faulty, err)
				continue
			}
			card = CardOf(e.Kit)
			notes.put(folder, e.Kit, card)
		}
		out = append(out, card)
	}
	return out, faulty, nil
}

// notes is what kits in folders told when they were last read: thousands of kits are
// not read anew for a list of them.
type notes struct {
	file    string
	changed bool
	stamps  map[string]string // of the kits looked at

	Notes int             `json:"notes"`
	Kits  map[string]note `json:"kits"` // by folder
}

type note struct {
	Stamp string `json:"stamp"`
	Card  Card   `json:"card"`
}

const notesForm = 1

func (c *Catalogue) readNotes() *notes {
	n := &notes{file: c.Notes, stamps: map[string]string{}}
	if text, err := os.ReadFile(c.Notes); c.Notes != "" && err == nil && json.Unmarshal(text, n) != nil {
		n.Kits = nil // a damaged one is made anew
	}
	if n.Notes != notesForm || n.Kits == nil {
		n.Notes, n.Kits = notesForm, map[string]note{}
	}
	return n
}

// chunk is how many kits are looked at by one of several lookers.
const chunk = 64

// look finds out what may have changed.
func (n *notes) look(folder rooted, apps []string) {
	if n.file == "" || folder == "" {
		return
	}
	stamps := make([]string, len(apps))
	var group errgroup.Group
	group.SetLimit(runtime.GOMAXPROCS(0))
	for start := 0; start < len(apps); start += chunk {
		group.Go(func() error {
			for i := start; i < min(start+chunk, len(apps)); i++ {
				stamps[i] = folder.stamp(apps[i])
			}
			return nil
		})
	}
	_ = group.Wait()
	for i, app := range apps {
		n.stamps[filepath.Join(string(folder), app)] = stamps[i]
	}
}

func (n *notes) of(folder rooted, app string) (Card, bool) {
	at := filepath.Join(string(folder), app)
	known, there := n.Kits[at]
	return known.Card, there && known.Stamp != "" && known.Stamp == n.stamps[at]
}

// put notes a kit whose releases stand in it.
func (n *notes) put(folder rooted, k *kit.Kit, card Card) {
	at := filepath.Join(string(folder), k.App)
	if stamp := n.stamps[at]; stamp != "" && !k.FollowsUpstream() {
		n.Kits[at], n.changed = note{stamp, card}, true
	}
}

// keep writes the notes; without them the kits are read anew.
func (n *notes) keep() {
	if !n.changed {
		return
	}
	if text, err := json.Marshal(n); err == nil && os.MkdirAll(filepath.Dir(n.file), 0o700) == nil {
		_ = atomicfile.Write(n.file, text, 0o600)
	}
}

// Search keeps the cards of a kind ("" for any) in which every word occurs.
func Search(all []Card, kind string, words []string) []Card {
	var out []Card
	for _, c := range all {
		text := strings.ToLower(strings.Join([]string{c.App, c.Title, c.Kind, c.Summary}, " "))
		missing := slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, strings.ToLower(w)) })
		if !missing && (kind == "" || c.Kind == kind) {
			out = append(out, c)
		}
	}
	return out
}

// Count says how many kits a source has, and how many of them have mistakes.
func (c *Catalogue) Count(source string) (kits, faulty int, err error) {
	for _, s := range c.sources {
		if s.Name == source {
			cards, wrong, err := c.cardsOf(s, c.readNotes())
			return len(cards), len(wrong), err
		}
	}
	return 0, 0, nil
}
