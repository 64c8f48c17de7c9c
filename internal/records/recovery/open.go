package recovery

import (
	"archive/tar"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"filippo.io/age"

	"tivset/internal/atomicfile"
	"tivset/internal/fault"
	"tivset/internal/records/home"
)

// largest is how large a part of a file may be: nobody's ledger is.
const largest = 1 << 30

// Opened is a file whose passphrase was right, in memory.
type Opened struct {
	Manifest
	parts map[string][]byte // by name
}

// Open reads a file. A wrong passphrase, and a file that is none or is damaged, are usage faults.
func Open(file, passphrase string) (*Opened, error) {
	none := fault.New(fault.Usage, "this is no recovery file, or it is damaged", file,
		"Look for another copy of it: every one that was saved opens by itself.")
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fault.New(fault.Usage, "the file cannot be read", file, "Check its name.").Wrap(err)
	}
	outer, err := untar(bytes.NewReader(text))
	if err != nil || outer["key.age"] == nil || outer["records.age"] == nil {
		return nil, none.Wrap(err)
	}
	lock, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, fault.New(fault.Usage, "the passphrase is empty", file, "Give it as it was chosen.")
	}
	key, err := unsealed(outer["key.age"], lock)
	var wrong *age.NoIdentityMatchError
	if errors.As(err, &wrong) || errors.Is(err, age.ErrIncorrectIdentity) {
		return nil, fault.New(fault.Usage, "the passphrase is not the one of this file", file,
			"Type it as it was chosen, small and capital letters as they are.")
	}
	if err != nil {
		return nil, none.Wrap(err)
	}
	identity, err := age.ParseX25519Identity(string(bytes.TrimSpace(key)))
	if err != nil {
		return nil, none.Wrap(err)
	}
	records, err := unsealed(outer["records.age"], identity)
	if err != nil {
		return nil, none.Wrap(err)
	}
	o := &Opened{}
	if o.parts, err = untar(bytes.NewReader(records)); err != nil {
		return nil, none.Wrap(err)
	}
	if err := json.Unmarshal(o.parts["recovery.json"], &o.Manifest); err != nil {
		return nil, none.Wrap(err)
	}
	delete(o.parts, "recovery.json")
	if o.Version != Version {
		what := fmt.Sprintf("the file is of version %d, which this release does not know", o.Version)
		return nil, fault.New(fault.Usage, what, file, "Use a newer release of this program.")
	}
	return o, nil
}

func unsealed(text []byte, by age.Identity) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(text), by)
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, largest))
}

func untar(from io.Reader) (map[string][]byte, error) {
	out := map[string][]byte{}
	for t := tar.NewReader(from); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		text, err := io.ReadAll(io.LimitReader(t, largest))
		if err != nil {
			return nil, err
		}
		out[h.Name] = text
	}
}

// Put writes all of it to where it belongs on this machine. What is there already is a fault, or with aside gets
// another name; a failure leaves everything as it was.
func (o *Opened) Put(h home.Home, aside bool, now time.Time) (err error) {
	there, err := o.there(h, aside)
	if err != nil {
		return err
	}
	var undo []func() error
	defer func() {
		for i := len(undo) - 1; err != nil && i >= 0; i-- {
			err = errors.Join(err, undo[i]())
		}
	}()
	ending := ".before-recovery-" + now.UTC().Format("20060102-150405")
	for _, path := range there {
		if err := os.Rename(path, path+ending); err != nil {
			return err
		}
		undo = append(undo, func() error { return os.Rename(path+ending, path) })
	}
	for name, text := range o.parts {
		path, _ := place(h, name) // which has one, there has seen
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if err := atomicfile.Write(path, text, 0o600); err != nil {
			return err
		}
		undo = append(undo, func() error { return os.Remove(path) })
	}
	return nil
}

// there lists what is in the way. Only the ledger may be: the first command that is typed makes an empty one.
func (o *Opened) there(h home.Home, aside bool) (out []string, err error) {
	for _, name := range slices.Sorted(maps.Keys(o.parts)) {
		path, ok := place(h, name)
		if !ok {
			return nil, fault.New(fault.Usage, "the recovery file has a part that has no place here", name,
				"Use the release of this program that saved it, or a newer one.")
		}
		switch _, err := os.Lstat(path); {
		case os.IsNotExist(err):
		case err != nil:
			return nil, err
		case !aside && path != h.Ledger():
			return nil, fault.New(fault.NeedsConfirmation, "this machine has records already", path,
				"Add --set-aside to give them other names; nothing of them is lost.")
		default:
			out = append(out, path)
		}
	}
	return out, nil
}
