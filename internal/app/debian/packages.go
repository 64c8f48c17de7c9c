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

// readPackages reads a Packages file, and tells of the packages for every machine.
func readPackages(from io.Reader, suite string, tell func(Package) error) error {
	in, err := control.NewParagraphReader(from, nil)
	if err != nil {
		return err
	}
	for {
		p, err := in.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("read the list of packages: %w", err)
		}
		v := p.Values
		if v["Architecture"] != "all" {
			continue
		}
		size, err := strconv.ParseInt(v["Size"], 10, 64)
		if err != nil || size <= 0 || size > largestPackage || len(v["SHA256"]) != 64 ||
			!strings.HasPrefix(path.Clean(v["Filename"]), "pool/") {
			continue // nothing to be had from it
		}
		if _, err := version.Parse(v["Version"]); err != nil {
			continue
		}
		if err := tell(Package{Name: v["Package"], Version: v["Version"], File: path.Clean(v["Filename"]), Size: size,
			SHA256: strings.ToLower(v["SHA256"]), Suite: suite, Homepage: v["Homepage"]}); err != nil {
			return err
		}
	}
}
