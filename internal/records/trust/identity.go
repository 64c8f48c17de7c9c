package trust

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/gofrs/flock"

	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// Signer is a machine with its signing key, which never leaves it (RFC 8032, Ed25519).
type Signer struct {
	Name string // by which its team knows it
	key  ed25519.PrivateKey
}

// Public is the key by which others know what it signed.
func (s Signer) Public() []byte { return s.key.Public().(ed25519.PublicKey) }

// SignerIn reads the signing key of this machine from a file, and makes both when they are not there.
func SignerIn(file string) (Signer, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return Signer{}, err
	}
	lock := flock.New(file+".lock", flock.SetPermissions(0o600))
	if err := lock.Lock(); err != nil {
		return Signer{}, fmt.Errorf("lock the signing key: %w", err)
	}
	defer lock.Unlock()
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		seed := make([]byte, ed25519.SeedSize)
		if _, err := rand.Read(seed); err != nil {
			return Signer{}, err
		}
		text = []byte(hex.EncodeToString(seed) + "\n")
		err = atomicfile.Write(file, text, 0o600)
		return Signer{key: ed25519.NewKeyFromSeed(seed)}, err
	}
	if err != nil {
		return Signer{}, err
	}
	seed, err := hex.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(seed) != ed25519.SeedSize {
		return Signer{}, fault.New(fault.Usage, "the signing key of this machine cannot be read", file,
			"Put the file back as it was; or take it away, and have the team add this machine anew.").Wrap(err)
	}
	return Signer{key: ed25519.NewKeyFromSeed(seed)}, nil
}

// Member is somebody, or a machine, of a team.
type Member struct {
	Name  string    `json:"name"`
	Sign  []byte    `json:"sign"` // the public key of what they sign
	Seal  string    `json:"seal"` // a public key of age, for which is encrypted what they may open
	May   Role      `json:"may"`
	Since time.Time `json:"since"`
	By    string    `json:"by,omitempty"` // who added them
}

// Key is both keys of a member as one word.
func (m Member) Key() string { return m.Seal + "." + base64.RawURLEncoding.EncodeToString(m.Sign) }

// Keyed reads the keys of a member from such a word. Whether its first half is a key of age it does not say.
func Keyed(word string) (m Member, err error) {
	seal, sign, two := strings.Cut(word, ".")
	m.Seal = seal
	if m.Sign, err = base64.RawURLEncoding.DecodeString(sign); err == nil && (!two ||
		len(m.Sign) != ed25519.PublicKeySize) {
		err = errors.New("it has no signing key")
	}
	return m, err
}

// Fingerprint is both keys in short, to be compared by people, in the form in which SSH has those of keys.
func (m Member) Fingerprint() string { return Fingerprint([]byte(m.Key())) }

// Fingerprint is something in short.
func Fingerprint(of []byte) string {
	sum := sha256.Sum256(of)
	return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum[:])
}
