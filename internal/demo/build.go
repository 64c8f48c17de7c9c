// Package demo holds the made-up apps, their kits, the demo account and the
// tour.
package demo

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"embed"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

//go:embed all:apps all:kits
var embedded embed.FS

// WriteCatalogue writes the demo apps' kits into a folder, each with the
// archives of its releases, which are packed here.
func WriteCatalogue(folder string) error {
	kits, err := embedded.ReadDir("kits")
	if err != nil {
		return err
	}
	for _, k := range kits {
		if err := writeKit(filepath.Join(folder, k.Name()), k.Name()); err != nil {
			return fmt.Errorf("write the kit %s: %w", k.Name(), err)
		}
	}
	return nil
}

func writeKit(folder, app string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	var sums []string
	entries, err := embedded.ReadDir(path.Join("apps", app))
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Name() == "common" {
			continue
		}
		packed, err := pack(app, e.Name())
		if err != nil {
			return err
		}
		sum := sha256.Sum256(packed)
		sums = append(sums, "SHA256-OF-"+e.Name(), hex.EncodeToString(sum[:]))
		if err := os.WriteFile(filepath.Join(folder, app+"-"+e.Name()+".tar.gz"), packed, 0o644); err != nil {
			return err
		}
	}
	return copyKit(folder, path.Join("kits", app), strings.NewReplacer(sums...))
}

// copyKit copies a kit's files; the checksums of the archives just packed are
// put in.
func copyKit(folder, from string, sums *strings.Replacer) error {
	return fs.WalkDir(embedded, from, func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := embedded.ReadFile(name)
		if err != nil {
			return err
		}
		to := filepath.Join(folder, filepath.FromSlash(strings.TrimPrefix(name, from+"/")))
		return os.WriteFile(to, []byte(sums.Replace(string(text))), 0o644)
	})
}

// pack makes a release's archive: the files common to all releases and its
// own, in a fixed order with fixed times.
func pack(app, release string) ([]byte, error) {
	all := map[string][]byte{"lib/release.txt": []byte(release + "\n")}
	for _, part := range []string{"common", release} {
		base := path.Join("apps", app, part)
		err := fs.WalkDir(embedded, base, func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			all[strings.TrimPrefix(name, base+"/")], err = embedded.ReadFile(name)
			return err
		})
		if err != nil {
			return nil, err
		}
	}
	if bytes.Contains(all["style.css"], []byte(`@import "base.css"`)) {
		base, err := embedded.ReadFile("apps/base.css")
		if err != nil {
			return nil, err
		}
		all["base.css"] = base
	}
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	t := tar.NewWriter(z)
	for _, name := range slices.Sorted(maps.Keys(all)) {
		header := &tar.Header{Name: app + "-" + release + "/" + name, Mode: 0o644, Size: int64(len(all[name])),
			ModTime: time.Unix(1760000000, 0).UTC()}
		if err := t.WriteHeader(header); err != nil {
			return nil, err
		}
		if _, err := t.Write(all[name]); err != nil {
			return nil, err
		}
	}
	if err := errors.Join(t.Close(), z.Close()); err != nil {
		return nil, err
	}
	return out.Bytes(), nil
}
