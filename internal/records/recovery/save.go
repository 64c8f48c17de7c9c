package recovery

import (
	"archive/tar"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"filippo.io/age"

	"tivset/internal/atomicfile"
	"tivset/internal/fault"
	"tivset/internal/records/home"
)

// Version is that of the format.
const Version = 1

// work is how hard a passphrase is to try (log2 of scrypt's N): about a second, and 256 MB.
var work = 18

// Manifest says what is in a file.
type Manifest struct {
	Version  int       `json:"version"`
	Made     time.Time `json:"made_at"`
	Sites    int       `json:"sites"`
	Accounts []string  `json:"accounts"`
	Team     bool      `json:"team"` // the ledger is a team's, and not in here
}

// Saved is what this machine remembers of the file that it saved last.
type Saved struct {
	File string    `json:"file"` // a whole path
	At   time.Time `json:"at"`   // when it was written last
	Key  []byte    `json:"key"`  // key.age as it is in the file
	To   string    `json:"to"`   // the recipient that belongs to it
}

// Source is what is saved.
type Source struct {
	Home     home.Home
	Snapshot func(ctx context.Context, to string) error // writes the ledger to a new file; nil for a team's
	Manifest Manifest
}

// Save writes a file that is locked with a passphrase, and remembers it. The file appears whole or not at all, and
// takes the place of an older one of its kind only.
func Save(ctx context.Context, from Source, file, passphrase string) (Saved, error) {
	if err := replaces(file); err != nil {
		return Saved{}, err
	}
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return Saved{}, err
	}
	lock, err := age.NewScryptRecipient(passphrase)
	if err != nil {
		return Saved{}, err
	}
	lock.SetWorkFactor(work)
	key, err := sealed(func(w io.Writer) error {
		_, err := io.WriteString(w, identity.String()+"\n")
		return err
	}, lock)
	if err != nil {
		return Saved{}, err
	}
	s := Saved{File: file, Key: key, To: identity.Recipient().String()}
	return s, s.write(ctx, from)
}

// replaces says whether a file may be written: what is there has to be one of ours.
func replaces(file string) error {
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		if parts, tarErr := untar(bytes.NewReader(text)); tarErr == nil && parts["key.age"] != nil {
			return nil
		}
		err = fs.ErrExist
	}
	return fault.New(fault.NeedsConfirmation, "there is something of this name that is no recovery file", file,
		"Choose another name.").Wrap(err)
}

// Refresh brings the file up to date, which needs no passphrase.
func (s Saved) Refresh(ctx context.Context, from Source) error { return s.write(ctx, from) }

func (s *Saved) write(ctx context.Context, from Source) error {
	to, err := age.ParseX25519Recipient(s.To)
	if err != nil {
		return err
	}
	records, err := sealed(func(w io.Writer) error { return from.write(ctx, w) }, to)
	if err != nil {
		return err
	}
	var out bytes.Buffer
	t := tar.NewWriter(&out)
	for _, part := range []struct {
		name string
		text []byte
	}{{"key.age", s.Key}, {"records.age", records}} {
		if err := entry(t, part.name, part.text, from.Manifest.Made); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	if err := atomicfile.Write(s.File, out.Bytes(), 0o600); err != nil {
		return err
	}
	s.At = from.Manifest.Made
	text, err := json.Marshal(s)
	if err != nil {
		return err
	}
	return from.Home.KeepRecovery(text)
}

// Last gives what was saved last; nil for nothing.
func Last(h home.Home) (*Saved, error) {
	text, err := h.Recovery()
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	var s Saved
	if err == nil {
		err = json.Unmarshal(text, &s)
	}
	return &s, err
}

// Reachable says whether the folder of the file is there: a stick may be in a drawer.
func (s Saved) Reachable() bool {
	_, err := os.Stat(s.File)
	return err == nil
}

// Stale says whether anything that matters was changed since a file was written, or the file is not there.
func (s Saved) Stale(h home.Home) bool {
	if _, err := os.Stat(s.File); err != nil {
		return true
	}
	for _, f := range files(h) {
		info, err := os.Stat(f.path)
		if err == nil && info.ModTime().After(s.At) {
			return true
		}
	}
	return false
}

func sealed(write func(io.Writer) error, to age.Recipient) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to)
	if err != nil {
		return nil, err
	}
	if err := write(w); err != nil {
		return nil, err
	}
	err = w.Close()
	return out.Bytes(), err
}

// write writes the records as a tar.
func (from Source) write(ctx context.Context, w io.Writer) error {
	t := tar.NewWriter(w)
	manifest, err := json.MarshalIndent(from.Manifest, "", "  ")
	if err != nil {
		return err
	}
	if err := entry(t, "recovery.json", manifest, from.Manifest.Made); err != nil {
		return err
	}
	for _, f := range files(from.Home) {
		if f.path == from.Home.Ledger() {
			continue // a copy of one moment, below
		}
		text, err := os.ReadFile(f.path)
		if err != nil {
			return err
		}
		if err := entry(t, f.name, text, from.Manifest.Made); err != nil {
			return err
		}
	}
	if from.Snapshot != nil {
		if err := from.ledger(ctx, t); err != nil {
			return fmt.Errorf("copy the ledger: %w", err)
		}
	}
	return t.Close()
}

func (from Source) ledger(ctx context.Context, t *tar.Writer) error {
	dir, err := os.MkdirTemp("", "tivset-ledger-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	copied := filepath.Join(dir, "ledger.db")
	if err := from.Snapshot(ctx, copied); err != nil {
		return err
	}
	text, err := os.ReadFile(copied)
	if err != nil {
		return err
	}
	return entry(t, "data/ledger.db", text, from.Manifest.Made)
}

func entry(t *tar.Writer, name string, text []byte, at time.Time) error {
	err := t.WriteHeader(&tar.Header{Name: name, Mode: 0o600, Size: int64(len(text)), ModTime: at, Typeflag: tar.TypeReg})
	if err == nil {
		_, err = t.Write(text)
	}
	return err
}

// file is one that is saved: under which name, and where it lies here.
type file struct{ name, path string }

// files lists what is saved, as far as it is there: what a machine cannot make again by itself.
func files(h home.Home) (out []file) {
	add := func(kind, base, name string) {
		path := filepath.Join(base, filepath.FromSlash(name))
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
			out = append(out, file{kind + "/" + name, path})
		}
	}
	for _, name := range []string{"vault.key", "signing.key", "care.json", "selections.yaml", "known_hosts",
		"known_certificates", "catalogues.yaml", "ledger.yaml",
		"operator", "sources.list"} {
		add("config", h.Config, name)
	}
	for _, name := range []string{"vault.age", "ledger.db"} {
		add("data", h.Data, name)
	}
	for _, in := range []struct{ kind, base, folder, ending string }{{"config", h.Config, "accounts", ".yaml"},
		{"state", h.State, "journals", ".jsonl"}, {"state", h.State, "journals", ".json"}} {
		names, err := filepath.Glob(filepath.Join(in.base, in.folder, "*"+in.ending))
		if err != nil {
			continue // of a folder with brackets in its name
		}
		for _, name := range names {
			add(in.kind, in.base, in.folder+"/"+filepath.Base(name))
		}
	}
	return out
}

// place gives where a file of a name belongs; false for one that is none of ours.
func place(h home.Home, name string) (path string, ok bool) {
	kind, rest, found := strings.Cut(name, "/")
	base := map[string]string{"config": h.Config, "data": h.Data, "state": h.State}[kind]
	if !found || base == "" || !fs.ValidPath(rest) || strings.Count(rest, "/") > 1 || strings.Contains(rest, `\`) {
		return "", false
	}
	return filepath.Join(base, filepath.FromSlash(rest)), true
}
