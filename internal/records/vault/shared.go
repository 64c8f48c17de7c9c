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
	"slices"

	"filippo.io/age"

	"tivset/internal/fault"
	"tivset/internal/records/trust"
	"tivset/internal/secret"
)

// Store keeps secrets where several people and machines share them, each sealed by itself.
type Store interface {
	// Sealed gives those of some names that are there.
	Sealed(names []string) (map[string][]byte, error)

	// Names lists the names that begin with a prefix, sorted.
	Names(prefix string) ([]string, error)

	// Put keeps what seal makes, all or none, replacing those of the same names. It is given
	// the public key for which things are encrypted, which does not change meanwhile.
	Put(seal func(key string) (map[string][]byte, error)) error

	// Drop forgets secrets.
	Drop(names []string) error

	// Epochs are the keys for which things were encrypted and are, the newest last.
	Epochs() ([]trust.EpochKey, error)
}

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
	if err != nil || len(sealed) == 0 {
		return map[string]string{}, err
	}
	keys, err := v.identities()
	if err != nil {
		return nil, err
	}
	out := map[string]string{}
	for name, text := range sealed {
		if out[name], err = unsealOne(text, keys); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// identities are the keys that open what is sealed for this vault: those of the team's epochs, the newest first, and
// this machine's own.
func (v *Vault) identities() ([]age.Identity, error) {
	own, err := v.identity(false)
	if err != nil {
		return nil, err
	}
	if v.store == nil {
		return []age.Identity{own}, nil
	}
	epochs, err := v.store.Epochs()
	if err != nil {
		return nil, err
	}
	out := []age.Identity{own}
	for n := len(epochs) - 1; n >= 0; n-- {
		key, err := v.epoch(epochs[n], own)
		var none *age.NoIdentityMatchError
		if errors.As(err, &none) {
			continue // of before this machine was of the team, or because it may only look
		}
		if err != nil {
			return nil, err
		}
		out = slices.Insert(out, len(out)-1, age.Identity(key))
	}
	return out, nil
}

// epoch opens the private half of an epoch's key, once.
func (v *Vault) epoch(e trust.EpochKey, own age.Identity) (*age.X25519Identity, error) {
	v.opening.Lock()
	defer v.opening.Unlock()
	if key := v.opened[e.For]; key != nil {
		return key, nil
	}
	plain, err := age.Decrypt(bytes.NewReader(e.Sealed), own)
	if err != nil {
		return nil, err
	}
	var text string
	if err := json.NewDecoder(plain).Decode(&text); err != nil {
		return nil, err
	}
	key, err := age.ParseX25519Identity(text)
	if err == nil && key.Recipient().String() != e.For {
		err = errors.New("the key of an epoch is not the one that it says")
	}
	if err != nil {
		return nil, err
	}
	if v.opened == nil {
		v.opened = map[string]*age.X25519Identity{}
	}
	v.opened[e.For] = key
	return key, nil
}

// NewEpoch makes a key for which things are to be encrypted from now on, which some public keys open.
func NewEpoch(openers []string) (trust.EpochKey, error) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		return trust.EpochKey{}, err
	}
	return sealedEpoch(key, openers)
}

func sealedEpoch(key *age.X25519Identity, openers []string) (e trust.EpochKey, err error) {
	to, err := recipients(openers)
	if err != nil {
		return e, err
	}
	e.For = key.Recipient().String()
	e.Sealed, err = seal(key.String(), to...)
	return e, err
}

// EpochsFor has the keys of all epochs that were opened by some public keys, and by no others.
func (v *Vault) EpochsFor(epochs []trust.EpochKey, openers []string) (out []trust.EpochKey, err error) {
	own, err := v.identity(false)
	if err != nil {
		return nil, err
	}
	for _, e := range epochs {
		key, err := v.epoch(e, own)
		if err != nil {
			return nil, err
		}
		anew, err := sealedEpoch(key, openers)
		if err != nil {
			return nil, err
		}
		out = append(out, anew)
	}
	return out, nil
}

func unsealOne(sealed []byte, keys []age.Identity) (s string, err error) {
	var none *age.NoIdentityMatchError
	plain, err := age.Decrypt(bytes.NewReader(sealed), keys...)
	if errors.As(err, &none) {
		return "", fault.NewAs(fault.MayOnlyLook, fault.NeedsConfirmation, "the team's passwords are not encrypted to "+
			"this machine",
			"", "Ask somebody of the team who may give it more to do than to look: "+fault.Call("team", "list"))
	}
	if err != nil {
		return "", err
	}
	return s, json.NewDecoder(plain).Decode(&s)
}

// putAll seals secrets for all, and keeps them.
func (v *Vault) putAll(secrets map[string]secret.Text) error {
	return v.store.Put(func(key string) (map[string][]byte, error) { return SealAll(secrets, []string{key}) })
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

// Reseal opens what was sealed for this vault, and seals it for another key.
func (v *Vault) Reseal(sealed []byte, key string) ([]byte, error) {
	s, err := v.unsealed(sealed)
	if err != nil {
		return nil, err
	}
	to, err := recipients([]string{key})
	if err != nil {
		return nil, err
	}
	return seal(s, to...)
}

func (v *Vault) unsealed(sealed []byte) (string, error) {
	keys, err := v.identities()
	if err != nil {
		return "", err
	}
	return unsealOne(sealed, keys)
}

// SealText encrypts a text for all who share this vault.
func (v *Vault) SealText(text []byte) ([]byte, error) { return v.sealFor(string(text)) }

// UnsealText opens what SealText made.
func (v *Vault) UnsealText(sealed []byte) ([]byte, error) {
	s, err := v.unsealed(sealed)
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
