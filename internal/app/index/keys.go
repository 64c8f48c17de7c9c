package index

import (
	"crypto/rand"
	"fmt"
	"strings"

	"aead.dev/minisign"
)

// PublicKey and PrivateKey are a publisher's keys (Ed25519, in minisign's form).
type (
	PublicKey  = minisign.PublicKey
	PrivateKey = minisign.PrivateKey
)

// ParseKey reads a public key: one line of minisign's form (RW…), or a whole key file.
func ParseKey(text string) (key PublicKey, err error) {
	err = key.UnmarshalText([]byte(strings.TrimSpace(text)))
	return key, err
}

// KeyID names a key for people, in minisign's form.
func KeyID(key PublicKey) string { return fmt.Sprintf("%X", key.ID()) }

// NewKey makes a pair of keys: the texts of the two files, that of the secret one locked
// with a passphrase.
func NewKey(passphrase string) (locked, public []byte, err error) {
	open, secret, err := minisign.GenerateKey(rand.Reader)
	if err != nil {
		return nil, nil, err
	}
	if locked, err = minisign.EncryptKey(passphrase, secret); err != nil {
		return nil, nil, err
	}
	public, err = open.MarshalText()
	return locked, public, err
}

// OpenKey unlocks a secret key.
func OpenKey(locked []byte, passphrase string) (PrivateKey, error) {
	return minisign.DecryptKey(passphrase, locked)
}
