package step

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"

	"time"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/site"
)

// ProveDomain puts a file into the document root, fetches it from the domain
// as a visitor does, and takes it away: then both belong together.
type ProveDomain struct {
	*Tools `json:"-"`
	Folder string `json:"folder"`
	URL    string `json:"url"`
	Name   string `json:"name"`
}

// Kind and Title implement job.Step.
func (*ProveDomain) Kind() string  { return "prove-domain" }
func (*ProveDomain) Title() string { return "See that the domain leads here" }

// Do fetches the file, for a while again and again.
func (d *ProveDomain) Do(ctx context.Context) error {
	token, err := d.Maker.Token(24)
	if err != nil {
		return err
	}
	text := "Tivset put this file here to see whether the domain leads to this folder: " + token + "\n"
	if err := files.Write(ctx, d.In.Files, path.Join(d.Folder, d.Name), []byte(text), 0o644); err != nil {
		return err
	}
	if err := d.In.Settled(ctx, func() error { return d.fetch(ctx, token) }); err != nil {
		return err
	}
	return d.Undo(ctx)
}

func (d *ProveDomain) fetch(ctx context.Context, token string) error {
	page, err := d.In.Visitor().Get(ctx, d.URL+"/"+d.Name)
	if err != nil {
		return fault.NewAs(fault.NoAnswer, fault.Failed, "the domain does not answer", d.URL,
			"Look at its name and its address in the account.").Wrap(err)
	}
	if page.Status != 200 || !strings.Contains(string(page.Body), token) {
		return fault.New(fault.Failed, fmt.Sprintf("the domain does not lead to this folder: a file put there answered %d",
			page.Status), d.URL+" and "+d.Folder,
			"Correct the folder of this domain in the account; when the domain is new, wait until it leads to this hosting.")
	}
	return nil
}

// Undo takes the file away.
func (d *ProveDomain) Undo(ctx context.Context) error {
	return files.Drop(ctx, d.In.Files, path.Join(d.Folder, d.Name))
}

// SetAside moves what is in the way into the account's store.
type SetAside struct {
	*Tools  `json:"-"`
	From    string   `json:"from"`
	To      string   `json:"to"`
	Entries []string `json:"entries"`
}

// Kind and Title implement job.Step.
func (*SetAside) Kind() string  { return "set-aside" }
func (*SetAside) Title() string { return "Set aside what is in the way" }

// settingsName is how configurations are called, of apps that nobody knows here.
var settingsName = regexp.MustCompile(`(?i)conf|setting|\.env|secret`)

// outOrder sorts the entries of an app that nobody knows as they may leave: what
// answers first, what it may read for its configuration after it, and a server's
// rules last. They come back in the order turned round.
func outOrder(entries []string) []string {
	rankOf := func(name string) int {
		switch {
		case strings.HasPrefix(name, "index."):
			return 0
		case settingsName.MatchString(name):
			return 2
		case strings.HasPrefix(name, "."):
			return 3
		}
		return 1
	}
	out := slices.Clone(entries)
	slices.SortStableFunc(out, func(a, b string) int { return rankOf(a) - rankOf(b) })
	return out
}

// Do moves entry by entry. What answered, PHP may go on to run for as long as its
// code cache does not look.
func (a *SetAside) Do(ctx context.Context) error {
	if _, err := files.MkdirAll(ctx, a.In.Files, a.To, 0o700); err != nil {
		return err
	}
	for n, name := range outOrder(a.Entries) {
		if err := a.In.Files.Rename(ctx, path.Join(a.From, name), path.Join(a.To, name)); err != nil {
			return err
		}
		a.Count(int64(n+1), int64(len(a.Entries)), "entries")
		if r := a.In.Runtimes().Of(name); r != nil && strings.HasPrefix(name, "index.") && len(a.Entries) > 1 {
			a.In.Pause(ctx, r.CodeCache())
		}
	}
	return nil
}

// Undo puts back what was moved. Where something stands in its place now, it
// stays in the store, and the error says so.
func (a *SetAside) Undo(ctx context.Context) error {
	for _, name := range slices.Backward(outOrder(a.Entries)) {
		kept := path.Join(a.To, name)
		there, err := files.Exists(ctx, a.In.Files, kept)
		if err != nil {
			return err
		}
		if !there {
			continue
		}
		err = a.In.Files.Rename(ctx, kept, path.Join(a.From, name))
		if errors.Is(err, fs.ErrExist) {
			return cameBack(path.Join(a.From, name), kept)
		}
		if err != nil {
			return fmt.Errorf("put %s back from %s: %w", path.Join(a.From, name), kept, err)
		}
	}
	return files.DropEmpty(ctx, a.In.Files, a.To, path.Dir(a.To), path.Dir(path.Dir(a.To)))
}

// MakeFolder makes a folder for the site's files.
type MakeFolder struct {
	*Tools `json:"-"`
	Folder string   `json:"folder"`
	Above  []string `json:"above"` // the folders made for it, innermost first

	Mode fs.FileMode `json:"-"` // 0750 when 0
}

// Kind and Title implement job.Step.
func (*MakeFolder) Kind() string    { return "make-folder" }
func (m *MakeFolder) Title() string { return "Make the folder " + m.Folder }

// Prepare notes which of the folders above are not there yet.
func (m *MakeFolder) Prepare(ctx context.Context) error {
	there, err := files.Exists(ctx, m.In.Files, m.Folder)
	if err != nil {
		return err
	}
	if there {
		return fault.New(fault.Failed, "the folder for the site's files is there already", m.Folder,
			"Choose another data.folder, or leave it out and one is found.")
	}
	m.Above, err = missingAbove(ctx, m.In.Files, m.Folder)
	return err
}

// missingAbove lists the folders above one that are not there, innermost first.
func missingAbove(ctx context.Context, f files.FS, folder string) (missing []string, err error) {
	for dir := path.Dir(folder); dir != "."; dir = path.Dir(dir) {
		there, err := files.Exists(ctx, f, dir)
		if err != nil || there {
			return missing, err
		}
		missing = append(missing, dir)
	}
	return missing, nil
}

// Do makes it, and those above it.
func (m *MakeFolder) Do(ctx context.Context) error {
	m.Result.Made = append(m.Result.Made, m.Above...)
	_, err := files.MkdirAll(ctx, m.In.Files, m.Folder, cmp.Or(m.Mode, 0o750))
	return err
}

// Undo takes the folder away with all that the app wrote there.
func (m *MakeFolder) Undo(ctx context.Context) error {
	if err := files.RemoveAll(ctx, m.In.Files, m.Folder); err != nil {
		return err
	}
	return files.DropEmpty(ctx, m.In.Files, m.Above...)
}

// PutInPlace moves what is staged into the place: a place that is new comes to be
// with one rename; into one that is there entries go one by one, what answers
// last. A document root itself is never replaced: it may hold other sites, and the
// server may know it by more than its name.
type PutInPlace struct {
	*Tools  `json:"-"`
	Stage   string   `json:"stage"`
	Target  string   `json:"target"`
	Made    bool     `json:"made"`    // the target is new: it goes again on undo
	Above   []string `json:"above"`   // the folders made for it, innermost first
	Entries []string `json:"entries"` // in the order in which they arrive
	Hold    int      `json:"hold"`    // how many of them, the first, leave only when no code that was cached runs any more
}

// Kind and Title implement job.Step.
func (*PutInPlace) Kind() string  { return "put-in-place" }
func (*PutInPlace) Title() string { return "Put the files in place" }

// Prepare lists what will move, and makes sure that it lands on nothing.
func (p *PutInPlace) Prepare(ctx context.Context) error {
	inside, err := p.In.Files.List(ctx, p.Stage)
	if err != nil {
		return err
	}
	there, err := p.In.Files.List(ctx, p.Target)
	p.Made = errors.Is(err, fs.ErrNotExist)
	if err != nil && !p.Made {
		return err
	}
	if p.Above, err = missingAbove(ctx, p.In.Files, p.Target); err != nil {
		return err
	}
	p.Entries = nil
	for _, i := range inside {
		p.Entries = append(p.Entries, i.Name)
		if slices.ContainsFunc(there, func(t files.Info) bool { return t.Name == i.Name }) {
			return site.InTheWay(p.Target, []string{i.Name + " has come to be there since the install began"})
		}
	}
	inOrder(p.Site.Kit.Kit, "", p.Entries, func(name string) string { return name })
	p.Hold = 0
	for _, name := range p.Entries {
		if rank(p.Site.Kit.Kit, "", name) <= configRank {
			p.Hold++
		}
	}
	return nil
}

// Do moves it.
func (p *PutInPlace) Do(ctx context.Context) error {
	p.Result.Entries = slices.Sorted(slices.Values(p.Entries))
	if p.Made {
		p.Result.Made = slices.Concat([]string{p.Target}, p.Above, p.Result.Made)
		if _, err := files.MkdirAll(ctx, p.In.Files, path.Dir(p.Target), 0o755); err != nil {
			return err
		}
		return p.In.Files.Rename(ctx, p.Stage, p.Target)
	}
	for n, name := range p.Entries {
		if err := p.In.Files.Rename(ctx, path.Join(p.Stage, name), path.Join(p.Target, name)); err != nil {
			return err
		}
		p.Count(int64(n+1), int64(len(p.Entries)), "entries")
	}
	return nil
}

// Undo takes away exactly the entries that were moved: those still in the
// stage never arrived, and what bears their name in the place is not ours.
func (p *PutInPlace) Undo(ctx context.Context) error {
	staged, err := files.Exists(ctx, p.In.Files, p.Stage)
	if err != nil {
		return err
	}
	if p.Made && p.Site != nil {
		if staged { // what is there is somebody else's
			return files.DropEmpty(ctx, p.In.Files, p.Above...)
		}
		if err := p.takeArrived(ctx, p.Entries[p.Hold:]); err != nil {
			return err
		}
		// The folder is seconds old: what the app has written there goes too.
		if err := p.takeAway(ctx, p.Target); err != nil {
			return err
		}
		return files.DropEmpty(ctx, p.In.Files, p.Above...)
	}
	if err := p.takeArrived(ctx, p.Entries[p.Hold:]); err != nil {
		return err
	}
	if err := p.takeArrived(ctx, p.Entries[:p.Hold]); err != nil {
		return err
	}
	if !p.Made {
		return nil
	}
	// After a crash the owner may have put something there.
	return files.DropEmpty(ctx, p.In.Files, append([]string{p.Target}, p.Above...)...)
}

// takeArrived takes those of some entries away that had arrived, last first. Where
// PHP can have run one of them, it waits until its code cache knows that it is
// gone.
func (p *PutInPlace) takeArrived(ctx context.Context, entries []string) error {
	var arrived []string
	cached := time.Duration(0)
	for _, name := range slices.Backward(entries) {
		staged, err := files.Exists(ctx, p.In.Files, path.Join(p.Stage, name))
		if err != nil {
			return err
		}
		if staged {
			continue
		}
		full := path.Join(p.Target, name)
		there, err := files.Exists(ctx, p.In.Files, full)
		if err != nil {
			return err
		}
		arrived = append(arrived, full)
		if r := p.In.Runtimes().Of(name); there && r != nil {
			cached = max(cached, r.CodeCache())
		}
	}
	if err := p.takeAway(ctx, arrived...); err != nil {
		return err
	}
	p.In.Pause(ctx, cached)
	return nil
}
