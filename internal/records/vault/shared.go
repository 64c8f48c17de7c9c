package vault

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"

	"filippo.io/age"

	"tivset/internal/fault"
	"tivset/internal/secret"
)

// Store keeps secrets where several people and machines share them, each sealed by itself.
type Store interface {
	// Sealed gives those of some names that are there.
	Sealed(names []string) (map[string][]byte, error)

	// Names lists the names that begin with a prefix, sorted.
	Names(prefix string) ([]string, error)

	// Put keeps what seal makes, all or none, replacing those of the same names. It is given
	// the public keys of all who may open them; nobody joins or leaves meanwhile.
	Put(seal func(keys []string) (map[string][]byte, error)) error

	// Drop forgets secrets.
	Drop(names []string) error
}

// Reseal opens what was sealed for this vault's key, and seals it for other keys.
type Reseal func(sealed []byte, keys []string) ([]byte, error)

// Shared is a vault in a store, opened with a key of this machine, which is made when first
// needed.
func Shared(key string, store Store) *Vault { return &Vault{key: key, store: store} }

// PublicKey is the public key of age for which this machine's vault is sealed.
func (v *Vault) PublicKey() (string, error) {
	identity, err := v.identity(true)
	if err != nil {
		return "", err
	}
	return identity.Recipient().String(), nil
}

// PublicKeyForm says what is wrong with a text that is to be a public key of age; nil for
// nothing.
func PublicKeyForm(key string) error {
	_, err := age.ParseX25519Recipient(key)
	return err
}

func recipients(keys []string) (out []age.Recipient, err error) {
	for _, key := range keys {
		r, err := age.ParseX25519Recipient(key)
		if err != nil {
			return nil, fmt.Errorf("a key of the team: %w", err)
		}
		out = append(out, r)
	}
	return out, nil
}

// one opens one secret.
func (v *Vault) one(name string) (secret.Text, error) {
	all, err := v.open([]string{name})
	if err != nil {
		return secret.Text{}, err
	}
	s, is := all[name]
	if !is {
		return secret.Text{}, fmt.Errorf("the vault has no %s: %w", name, fs.ErrNotExist)
	}
	return secret.Of(s), nil
}

// open opens some secrets.
func (v *Vault) open(names []string) (map[string]string, error) {
	sealed, err := v.store.Sealed(names)
	if err != nil {
		return nil, err
	}
	identity, err := v.identity(false)
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for name, text := range sealed {
		if out[name], err = unsealOne(text, identity); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func unsealOne(sealed []byte, identity *age.X25519Identity) (s string, err error) {
	var none *age.NoIdentityMatchError
	plain, err := age.Decrypt(bytes.NewReader(sealed), identity)
	if errors.As(err, &none) {
		return "", fault.New(fault.NeedsConfirmation, "the team's passwords are not encrypted to this machine",
			identity.Recipient().String(), "Ask somebody of the team to add its key with "+
				fault.Call("team", "add", "NAME", identity.Recipient().String())+"; who may only look opens no account.")
	}
	if err != nil {
		return "", err
	}
	return s, json.NewDecoder(plain).Decode(&s)
}

// putAll seals secrets for all, and keeps them.
func (v *Vault) putAll(secrets map[string]secret.Text) error {
	return v.store.Put(func(keys []string) (map[string][]byte, error) { return SealAll(secrets, keys) })
}

// SealAll seals secrets, each by itself, for some public keys.
func SealAll(secrets map[string]secret.Text, keys []string) (map[string][]byte, error) {
	to, err := recipients(keys)
	if err != nil {
		return nil, err
	}
	out := map[string][]byte{}
	for name, s := range secrets {
		if out[name], err = seal(s.Reveal(), to...); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Reseal opens what was sealed for this vault's key, and seals it for other keys.
func (v *Vault) Reseal(sealed []byte, keys []string) ([]byte, error) {
	identity, err := v.identity(false)
	if err != nil {
		return nil, err
	}
	s, err := unsealOne(sealed, identity)
	if err != nil {
		return nil, err
	}
	to, err := recipients(keys)
	if err != nil {
		return nil, err
	}
	return seal(s, to...)
}

// SealText encrypts a text for all who share this vault.
func (v *Vault) SealText(text []byte) ([]byte, error) { return v.sealFor(string(text)) }

// UnsealText opens what SealText made.
func (v *Vault) UnsealText(sealed []byte) ([]byte, error) {
	identity, err := v.identity(false)
	if err != nil {
		return nil, err
	}
	s, err := unsealOne(sealed, identity)
	return []byte(s), err
}

// SealBytes encrypts bytes of any kind for all who share this vault.
func (v *Vault) SealBytes(of []byte) ([]byte, error) { return v.sealFor(of) }

// UnsealBytes opens what SealBytes made.
func (v *Vault) UnsealBytes(sealed []byte) ([]byte, error) {
	text, err := v.UnsealText(sealed)
	if err != nil {
		return nil, err
	}
	return base64.StdEncoding.DecodeString(string(text)) // as JSON has bytes
}

// All gives every secret, to be brought elsewhere.
func (v *Vault) All() (map[string]secret.Text, error) {
	all, err := v.below("")
	out := map[string]secret.Text{}
	for name, s := range all {
		out[name] = secret.Of(s)
	}
	return out, err
}

// ChecksumsOf is the name of the secret with which a team's backups are marked.
const ChecksumsOf = "team/checksums"

// checksumKey is what checksums are made with: a secret that a team shares, and that stays
// with whoever was in one; else one that only this vault's key leads to.
func (v *Vault) checksumKey() ([]byte, error) {
	s, err := v.Get(ChecksumsOf)
	if err == nil {
		return hex.DecodeString(s.Reveal())
	}
	if v.store != nil || !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	identity, err := v.identity(true)
	if err != nil {
		return nil, err
	}
	own := hmac.New(sha256.New, []byte(identity.String()))
	own.Write([]byte("tivset: checksums of backups"))
	return own.Sum(nil), nil
}

// ForTeam is the secret that a team that begins with this vault shares for its checksums:
// backups that were made before stay known.
func (v *Vault) ForTeam() (secret.Text, error) {
	own, err := v.checksumKey()
	return secret.Of(hex.EncodeToString(own)), err
}
