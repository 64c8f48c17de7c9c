package index

import (
	"bytes"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"time"

	"aead.dev/minisign"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
)

// Names of what a published catalogue consists of, beside its kits.
const (
	File      = "index.json"
	Signature = "index.json.minisig"
	KeyFile   = "key.pub"
)

const (
	form        = 1
	largest     = 32 << 20  // bytes of an index
	largestFile = 256 << 20 // bytes of a kit, with the archives that it brings along
)

// Index is what a catalogue has.
type Index struct {
	Index   int               `json:"index"`  // the format, 1
	Serial  int               `json:"serial"` // of this edition; later ones have higher numbers
	Issued  time.Time         `json:"issued"`
	Expires time.Time         `json:"expires"`
	Kits    map[string]Packed `json:"kits"` // by app

	Withdrawn map[string]int `json:"withdrawn,omitempty"` // the last version of kits that have left it
}

// version is the last version that there was of an app's kit; 0 where there was none.
func (x *Index) version(app string) int { return max(x.Kits[app].Version, x.Withdrawn[app]) }

// Packed is a kit as it lies in the catalogue.
type Packed struct {
	Version int    `json:"version"` // of the kit; it only goes up
	File    string `json:"file"`
	Bytes   int64  `json:"bytes"`
	SHA256  string `json:"sha256"`
	catalogue.Card
}

// ErrKey matches an index that the key did not sign.
var ErrKey = errors.New("another key signed it, or nobody")

// Read reads an index whose signature holds (ErrKey where not).
func Read(text, signature []byte, key PublicKey) (*Index, error) {
	if !minisign.Verify(key, text, signature) {
		return nil, ErrKey
	}
	x := &Index{}
	decoder := json.NewDecoder(bytes.NewReader(text))
	if err := decoder.Decode(x); err != nil {
		return nil, fmt.Errorf("read %s: %w", File, err)
	}
	return x, x.wrong()
}

var fileName = regexp.MustCompile(`^[a-z][a-z0-9-]*-[0-9]+\.kit$`)

// wrong says what in an index no publisher of ours would have written.
func (x *Index) wrong() error {
	if x.Index != form {
		return fmt.Errorf("its format is %d, and this program reads %d: take a newer one", x.Index, form)
	}
	if x.Serial < 1 || x.Expires.IsZero() {
		return errors.New("it has no serial number, or no end")
	}
	for app, p := range x.Kits {
		sum, err := hex.DecodeString(p.SHA256)
		switch {
		case app != p.App || !kit.IsName(app):
			return fmt.Errorf("%q is no app's name", app)
		case !fileName.MatchString(p.File) || p.Version < 1 || err != nil || len(sum) != 32:
			return fmt.Errorf("the entry of %s names no kit", app)
		case p.Bytes < 1 || p.Bytes > largestFile:
			return fmt.Errorf("the kit of %s has %d bytes, and at most %d are read", app, p.Bytes, int64(largestFile))
		}
	}
	return nil
}
