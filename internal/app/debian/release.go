package debian

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"pault.ag/go/debian/control"
)

// Release is what a suite's signed Release file says.
type Release struct {
	Origin, Suite, Codename string
	Date                    time.Time
	ValidUntil              time.Time // zero where it has no end
	files                   map[string]listed
}

// listed is a file of a suite, below the suite's folder.
type listed struct {
	size int64
	sum  string // SHA-256, in hexadecimal
}

// Faults of an index, for those who tell them apart.
var (
	ErrUnsigned = errors.New("the index is not signed by a key that is trusted")
	ErrExpired  = errors.New("the index is out of date")
	ErrReplayed = errors.New("the index is older than the one that was seen before")
)

// Keys reads OpenPGP keys from files, in binary or in ASCII (RFC 9580).
func Keys(files ...string) (openpgp.EntityList, error) {
	var out openpgp.EntityList
	for _, name := range files {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		read := openpgp.ReadKeyRing
		if bytes.HasPrefix(bytes.TrimSpace(text), []byte("-----BEGIN")) {
			read = openpgp.ReadArmoredKeyRing
		}
		keys, err := read(bytes.NewReader(text))
		if err != nil {
			return nil, fmt.Errorf("read the keys in %s: %w", name, err)
		}
		out = append(out, keys...)
	}
	return out, nil
}

// ReadRelease reads an InRelease file. It must bear a good signature of one of the
// keys, be of its time, and not be older than what was seen before. With ErrExpired
// the index comes too, for those who take it nevertheless.
func ReadRelease(signed []byte, keys openpgp.EntityList, now, before time.Time) (*Release, error) {
	block, _ := clearsign.Decode(signed)
	if block == nil {
		return nil, ErrUnsigned
	}
	// Debian signs with several keys, of which some may be unknown here.
	config := &packet.Config{Time: func() time.Time { return now }}
	if _, err := block.VerifySignature(keys, config); err != nil {
		return nil, fmt.Errorf("%w: %w", ErrUnsigned, err)
	}
	in, err := control.NewParagraphReader(bytes.NewReader(block.Plaintext), nil)
	if err != nil {
		return nil, err
	}
	p, err := in.Next()
	if err != nil {
		return nil, fmt.Errorf("read the index: %w", err)
	}
	r := &Release{Origin: p.Values["Origin"], Suite: p.Values["Suite"], Codename: p.Values["Codename"],
		files: map[string]listed{}}
	if r.Date, err = time.Parse(time.RFC1123, p.Values["Date"]); err != nil {
		return nil, fmt.Errorf("read the index's date: %w", err)
	}
	if until := p.Values["Valid-Until"]; until != "" {
		if r.ValidUntil, err = time.Parse(time.RFC1123, until); err != nil {
			return nil, fmt.Errorf("read until when the index is valid: %w", err)
		}
	}
	if r.Date.Before(before) {
		return nil, fmt.Errorf("%w: it is of %s, and one of %s was seen", ErrReplayed, r.Date.Format(time.DateTime),
			before.Format(time.DateTime))
	}
	if err := r.list(p.Values["SHA256"]); err != nil {
		return nil, err
	}
	if !r.ValidUntil.IsZero() && now.After(r.ValidUntil) {
		return r, fmt.Errorf("%w: it was valid until %s", ErrExpired, r.ValidUntil.Format(time.DateOnly))
	}
	return r, nil
}

// list reads the checksums: a line each of sum, size and name.
func (r *Release) list(text string) error {
	for line := range strings.Lines(text) {
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		if len(words) != 3 || len(words[0]) != 64 {
			return fmt.Errorf("read the index: %q is no checksum, size and name", strings.TrimSpace(line))
		}
		size, err := strconv.ParseInt(words[1], 10, 64)
		if err != nil || size < 0 {
			return fmt.Errorf("read the index: %q is no size", words[1])
		}
		r.files[words[2]] = listed{size, strings.ToLower(words[0])}
	}
	return nil
}
