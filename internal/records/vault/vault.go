// Package vault keeps passwords and keys in one file, encrypted with age
// (age-encryption.org/v1) to a key that lies in another folder.
//
// The vault protects against backups and copies of the data folder that go
// astray; whoever can read both folders as this user can read the vault.
package vault

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"filippo.io/age"
	"github.com/gofrs/flock"

	"tivset/internal/atomicfile"
	"tivset/internal/fault"
	"tivset/internal/secret"
)

// Vault is an encrypted set of named secrets. It holds nothing open: every
// call reads the file anew under a lock, so that two programs can share it.
type Vault struct {
	file  string
	key   string
	store Store // in place of the file; nil for the file

	opening sync.Mutex
	opened  map[string]*age.X25519Identity // the private halves of epochs' keys, by their public ones
}

// At names the vault's file and its key's file, which are made when first
// needed.
func At(file, key string) *Vault { return &Vault{file: file, key: key} }

// content is what is inside: a version, and the secrets by name.
type content struct {
	Vault   int               `json:"vault"`
	Secrets map[string]string `json:"secrets"`
}

const version = 1

// Get returns a secret; fs.ErrNotExist when there is none of that name.
func (v *Vault) Get(name string) (secret.Text, error) {
	if v.store != nil {
		return v.one(name)
	}
	all, err := v.all()
	if err != nil {
		return secret.Text{}, err
	}
	s, ok := all[name]
	if !ok {
		return secret.Text{}, fmt.Errorf("the vault has no %s: %w", name, fs.ErrNotExist)
	}
	return secret.Of(s), nil
}

// Names lists the names directly below a prefix, sorted: those with a further
// slash are somebody else's, such as a site's inside another.
func (v *Vault) Names(prefix string) ([]string, error) {
	all, err := v.Under(prefix)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, n := range all {
		if _, ok := below(n, prefix); ok {
			names = append(names, n)
		}
	}
	return names, nil
}

// Under lists all names that begin with a prefix, sorted.
func (v *Vault) Under(prefix string) ([]string, error) {
	if v.store != nil {
		return v.store.Names(prefix)
	}
	all, err := v.all()
	if err != nil {
		return nil, err
	}
	maps.DeleteFunc(all, func(name, _ string) bool { return !strings.HasPrefix(name, prefix) })
	return slices.Sorted(maps.Keys(all)), nil
}

// Set keeps secrets, all or none, replacing those of the same names.
func (v *Vault) Set(secrets map[string]secret.Text) error {
	if v.store != nil {
		return v.putAll(secrets)
	}
	return v.change(func(all map[string]string) {
		for name, s := range secrets {
			all[name] = s.Reveal()
		}
	})
}

// Forget drops the secrets directly below a prefix.
func (v *Vault) Forget(prefix string) error {
	if v.store != nil {
		names, err := v.Names(prefix)
		if err != nil || len(names) == 0 {
			return err
		}
		return v.store.Drop(names)
	}
	return v.change(func(all map[string]string) {
		maps.DeleteFunc(all, func(name, _ string) bool {
			_, ok := below(name, prefix)
			return ok
		})
	})
}

func below(name, prefix string) (rest string, ok bool) {
	rest, ok = strings.CutPrefix(name, prefix)
	return rest, ok && !strings.Contains(rest, "/")
}

// Seal encrypts the secrets directly below a prefix, so that only this
// vault's key opens them, or those of all who share it; their names are kept without it.
func (v *Vault) Seal(prefix string) ([]byte, error) {
	all, err := v.below(prefix)
	if err != nil {
		return nil, err
	}
	some := map[string]string{}
	for name, s := range all {
		if rest, ours := below(name, prefix); ours {
			some[rest] = s
		}
	}
	return v.sealFor(content{version, some})
}

// below are secrets whose names begin with a prefix.
func (v *Vault) below(prefix string) (map[string]string, error) {
	if v.store == nil {
		return v.all()
	}
	names, err := v.store.Names(prefix)
	if err != nil {
		return nil, err
	}
	return v.open(names)
}

// sealFor encrypts something for whoever may open this vault.
func (v *Vault) sealFor(what any) ([]byte, error) {
	if v.store != nil {
		epochs, err := v.store.Epochs()
		if err != nil {
			return nil, err
		}
		to, err := recipients([]string{epochs[len(epochs)-1].For})
		if err != nil {
			return nil, err
		}
		return seal(what, to...)
	}
	identity, err := v.identity(true)
	if err != nil {
		return nil, err
	}
	return seal(what, identity.Recipient())
}

// Unseal opens what Seal made. A fault when another vault's key is needed.
func (v *Vault) Unseal(sealed []byte) (map[string]secret.Text, error) {
	keys, err := v.identities()
	if err != nil {
		return nil, err
	}
	c, err := unseal(bytes.NewReader(sealed), keys...)
	out := map[string]secret.Text{}
	for name, s := range c.Secrets {
		out[name] = secret.Of(s)
	}
	return out, err
}

// Key makes a checksum of a text that nobody can make without this vault's key
// (RFC 2104): what was marked with it was made here, and is as it was made.
func (v *Vault) Key(text []byte) ([]byte, error) {
	own, err := v.checksumKey()
	if err != nil {
		return nil, err
	}
	return marked(own, text), nil
}

func marked(own, text []byte) []byte {
	sum := hmac.New(sha256.New, own)
	sum.Write(text)
	return sum.Sum(nil)
}

func seal(what any, to ...age.Recipient) ([]byte, error) {
	var sealed bytes.Buffer
	w, err := age.Encrypt(&sealed, to...)
	if err != nil {
		return nil, err
	}
	if err := json.NewEncoder(w).Encode(what); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil { // which writes the end
		return nil, err
	}
	return sealed.Bytes(), nil
}

func unseal(from io.Reader, keys ...age.Identity) (content, error) {
	var c content
	plain, err := age.Decrypt(from, keys...)
	if err != nil {
		return c, err
	}
	return c, json.NewDecoder(plain).Decode(&c)
}

// all reads the vault. Files are replaced whole, so reading needs no lock.
func (v *Vault) all() (map[string]string, error) {
	file, err := os.Open(v.file)
	if errors.Is(err, fs.ErrNotExist) {
		return map[string]string{}, nil
	}
	if err != nil {
		return nil, err
	}
	defer file.Close()
	identity, err := v.identity(false)
	if err != nil {
		return nil, err
	}
	c, err := unseal(file, identity)
	if err != nil {
		return nil, fault.New(fault.Usage, "the vault does not open with its key", v.file,
			"Put back the key that belongs to it: "+v.key).Wrap(err)
	}
	if c.Vault != version {
		return nil, fault.New(fault.Usage, fmt.Sprintf("the vault has format %d", c.Vault), v.file,
			"A newer release of Tivset made it; use that one.")
	}
	if c.Secrets == nil {
		c.Secrets = map[string]string{}
	}
	return c.Secrets, nil
}

func (v *Vault) change(edit func(map[string]string)) error {
	if err := os.MkdirAll(filepath.Dir(v.file), 0o700); err != nil {
		return err
	}
	lock := flock.New(v.file+".lock", flock.SetPermissions(0o600))
	if err := lock.Lock(); err != nil {
		return fmt.Errorf("lock the vault: %w", err)
	}
	defer lock.Unlock()
	all, err := v.all()
	if err != nil {
		return err
	}
	edit(all)
	identity, err := v.identity(true)
	if err != nil {
		return err
	}
	sealed, err := seal(content{version, all}, identity.Recipient())
	if err != nil {
		return err
	}
	return atomicfile.Write(v.file, sealed, 0o600)
}

// identity reads the key, or makes one when there is neither key nor vault.
func (v *Vault) identity(make bool) (*age.X25519Identity, error) {
	text, err := os.ReadFile(v.key)
	if err == nil {
		identity, err := age.ParseX25519Identity(strings.TrimSpace(string(text)))
		if err != nil {
			return nil, fault.New(fault.Usage, "the vault's key cannot be read", v.key,
				"Put back the key that belongs to the vault.").Wrap(err)
		}
		return identity, nil
	}
	_, vaultErr := os.Stat(v.file)
	if !errors.Is(err, fs.ErrNotExist) || !make || vaultErr == nil && v.store == nil {
		return nil, fault.New(fault.Usage, "the vault's key is not there", v.key,
			"Put back the key that belongs to the vault.").Wrap(err)
	}
	identity, err := age.GenerateX25519Identity()
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Dir(v.key), 0o700); err != nil {
		return nil, err
	}
	return identity, atomicfile.Write(v.key, []byte(identity.String()+"\n"), 0o600)
}
