package debian

import (
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"pault.ag/go/debian/control"
	"pault.ag/go/debian/version"
)

// Package is a package as an index has it.
type Package struct {
	Name     string `json:"name"`
	Version  string `json:"version"`
	File     string `json:"file"` // below the mirror
	Size     int64  `json:"size"`
	SHA256   string `json:"sha256"`
	Suite    string `json:"suite"`
	Homepage string `json:"homepage,omitempty"`
}

// largestPackage is how large a package may say that it is.
const largestPackage = 1 << 30

// readPackages reads a Packages file, and gives those that wanted says.
func readPackages(from io.Reader, suite string, wanted func(name string) bool) ([]Package, error) {
	in, err := control.NewParagraphReader(from, nil)
	if err != nil {
		return nil, err
	}
	var out []Package
	for {
		p, err := in.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, fmt.Errorf("read the list of packages: %w", err)
		}
		v := p.Values
		if !wanted(v["Package"]) || v["Architecture"] != "all" {
			continue
		}
		size, err := strconv.ParseInt(v["Size"], 10, 64)
		if err != nil || size <= 0 || size > largestPackage || len(v["SHA256"]) != 64 ||
			!strings.HasPrefix(path.Clean(v["Filename"]), "pool/") {
			return nil, fmt.Errorf("read the list of packages: %s has no size, checksum and place in the pool", v["Package"])
		}
		if _, err := version.Parse(v["Version"]); err != nil {
			return nil, fmt.Errorf("read the version of %s: %w", v["Package"], err)
		}
		out = append(out, Package{Name: v["Package"], Version: v["Version"], File: path.Clean(v["Filename"]), Size: size,
			SHA256: strings.ToLower(v["SHA256"]), Suite: suite, Homepage: v["Homepage"]})
	}
}

// Newer compares two versions as Debian does (deb-version(7)): -1 where the first
// is older, 0 where they are the same.
func Newer(a, b string) int {
	first, errFirst := version.Parse(a)
	second, errSecond := version.Parse(b)
	if errFirst != nil || errSecond != nil {
		return strings.Compare(a, b)
	}
	switch n := version.Compare(first, second); {
	case n < 0:
		return -1
	case n > 0:
		return 1
	}
	return 0
}

// Upstream is the version of the app that a package's version names: without epoch,
// revision and what says that it was packed anew.
func Upstream(text string) string {
	v, err := version.Parse(text)
	if err != nil {
		return text
	}
	bare := v.Version
	if i := strings.IndexAny(bare, "+~"); i > 0 {
		bare = bare[:i]
	}
	return bare
}
