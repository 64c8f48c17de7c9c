package index

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"aead.dev/minisign"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// Publishing is what is to become of a catalogue's folder.
type Publishing struct {
	Folder  string
	Key     PrivateKey
	Kits    []*kit.Kit    // that are new or may have changed; others stay as they are
	Without []string      // apps whose kits leave the catalogue
	Now     time.Time     // when it is issued
	Valid   time.Duration // for how long it is valid
}

// Public is the key that owners are given, as one line.
func (p Publishing) Public() string { return p.Key.Public().(PublicKey).String() }

// Published is what became of it.
type Published struct {
	*Index
	Changed []string // apps whose kits are new or other than before, sorted
}

// Publish packs kits into a catalogue's folder and signs its index anew. The folder may
// be served as it is, even meanwhile: a file once named by an index never changes.
func Publish(p Publishing) (*Published, error) {
	public := p.Key.Public().(PublicKey)
	before, err := edition(p.Folder, public)
	if err != nil {
		return nil, err
	}
	next := &Published{Index: &Index{Index: form, Serial: before.Serial + 1, Issued: p.Now.UTC().Truncate(time.Second),
		Kits: map[string]Packed{}, Withdrawn: map[string]int{}}}
	next.Expires = next.Issued.Add(p.Valid)
	maps.Copy(next.Kits, before.Kits)
	maps.Copy(next.Withdrawn, before.Withdrawn)
	for _, app := range p.Without {
		if _, there := next.Kits[app]; !there {
			return nil, fault.New(fault.Usage, "the catalogue has no kit of "+app, p.Folder, "Leave it out of --without.")
		}
		next.Withdrawn[app] = next.Kits[app].Version
		delete(next.Kits, app)
	}
	if err := os.MkdirAll(p.Folder, 0o755); err != nil {
		return nil, err
	}
	for _, k := range p.Kits {
		if err := next.add(p.Folder, k, before); err != nil {
			return nil, fault.New(fault.Failed, "the kit of "+k.Title+" cannot be packed", p.Folder,
				"See what the cause says; the catalogue is as it was.").Wrap(err)
		}
	}
	slices.Sort(next.Changed)
	return next, errors.Join(next.sign(p, public), tidy(p.Folder, before, next.Index))
}

// edition reads the index that a folder has; an empty one where there is none.
func edition(folder string, key PublicKey) (*Index, error) {
	text, err := os.ReadFile(filepath.Join(folder, File))
	if errors.Is(err, fs.ErrNotExist) {
		return &Index{}, nil
	}
	if err != nil {
		return nil, err
	}
	signature, err := os.ReadFile(filepath.Join(folder, Signature))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	x, err := Read(text, signature, key)
	if err != nil {
		return nil, fault.New(fault.Usage, "the catalogue that is there was not made with this key", folder,
			"Sign with the key that it was made with. Where that is lost, publish into an empty folder, and tell the "+
				"owners to forget the catalogue and add it again with the new key. Nothing was changed.").Wrap(err)
	}
	return x, nil
}

// add packs a kit; one that is as it was keeps its version.
func (x *Published) add(folder string, k *kit.Kit, before *Index) error {
	text, err := Pack(k.Files())
	if err != nil {
		return err
	}
	sum := sha256.Sum256(text)
	p := Packed{Version: before.version(k.App), Bytes: int64(len(text)), SHA256: hex.EncodeToString(sum[:]),
		Card: catalogue.CardOf(k)}
	if p.SHA256 != before.Kits[k.App].SHA256 {
		p.Version++
		x.Changed = append(x.Changed, k.App)
	}
	p.File = fmt.Sprintf("%s-%d.kit", k.App, p.Version)
	x.Kits[k.App] = p
	delete(x.Withdrawn, k.App)
	return atomicfile.Write(filepath.Join(folder, p.File), text, 0o644)
}

// sign writes the index and its signature. Who reads the one without the other reads
// again.
func (x *Index) sign(p Publishing, public PublicKey) error {
	text, err := json.MarshalIndent(x, "", "  ")
	if err != nil {
		return err
	}
	key, err := public.MarshalText()
	if err != nil {
		return err
	}
	signed := minisign.SignWithComments(p.Key, text, fmt.Sprintf("serial %d, valid until %s", x.Serial,
		x.Expires.Format(time.DateOnly)), "a catalogue of kits")
	for _, f := range []struct {
		name string
		text []byte
	}{{KeyFile, key}, {File, text}, {Signature, signed}} {
		if err := atomicfile.Write(filepath.Join(p.Folder, f.name), f.text, 0o644); err != nil {
			return err
		}
	}
	return nil
}

// tidy takes packed kits away that neither this edition nor the one before names: who
// still has that one finds what it names.
func tidy(folder string, before, now *Index) error {
	files, err := os.ReadDir(folder)
	if err != nil {
		return err
	}
	named := map[string]bool{}
	for _, x := range []*Index{before, now} {
		for _, p := range x.Kits {
			named[p.File] = true
		}
	}
	for _, f := range files {
		if fileName.MatchString(f.Name()) && !named[f.Name()] {
			err = errors.Join(err, os.Remove(filepath.Join(folder, f.Name())))
		}
	}
	return err
}
