package release

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/debian"
	"tivset/internal/app/kit"
	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// made is a note of an archive that was made of packages here: the same release is
// the same archive from then on, though its packages be mended meanwhile.
type made struct {
	Sum      string           `json:"sha256"`
	Recipe   string           `json:"recipe"` // its SHA-256
	Packages []debian.Package `json:"packages"`
}

// fromPackages gives a release's archive that is made of packages of a Debian archive:
// from the cache, or by the kit's recipe.
func (a *Archives) fromPackages(ctx context.Context, k catalogue.Entry, r *kit.Release) (string, error) {
	recipe, err := json.Marshal(r.Archive.Packages.Recipe)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(recipe)
	note := filepath.Join(a.Folder, "packages-"+k.App+"-"+r.Release+".json")
	var was made
	if text, err := os.ReadFile(note); err == nil && json.Unmarshal(text, &was) == nil &&
		was.Recipe == hex.EncodeToString(sum[:]) && sumForm(was.Sum) {
		if name := filepath.Join(a.Folder, was.Sum); verify(name, was.Sum) == nil {
			return name, nil
		}
	}
	ctx, done := a.telling(ctx, "Fetch "+k.Title+" "+r.Release)
	defer done()
	packages, err := a.packages(ctx, k, r)
	if err != nil {
		return "", err
	}
	name, err := a.make(ctx, r.Archive.Packages.Recipe, packages)
	if err != nil {
		return "", fault.New(
			fault.Failed,
			"the archive of "+k.Title+" "+r.Release+" cannot be made of its packages",
			r.Archive.Packages.Package,
			"Check the connection and try again; where the recipe does not fit any more, tell the kit's "+
				"author. Nothing was touched.",
		).Wrap(err)
	}
	text, err := json.Marshal(made{filepath.Base(name), hex.EncodeToString(sum[:]), packages})
	if err != nil {
		return "", err
	}
	return name, atomicfile.Write(note, text, 0o600)
}

func sumForm(text string) bool {
	sum, err := hex.DecodeString(text)
	return err == nil && len(sum) == sha256.Size
}

// packages finds the packages that a release consists of, as its suite has them now.
func (a *Archives) packages(ctx context.Context, k catalogue.Entry, r *kit.Release) ([]debian.Package, error) {
	d := r.Archive.Packages
	gone := fault.New(fault.Failed, "the release "+r.Release+" of "+k.Title+" is not in the Debian archive any more, and "+
		"this machine has not kept it", d.Package, "Update the site to a release that is there: "+
		strings.Join(k.Versions(), ", ")+". Nothing was touched.")
	if d.Version == "" {
		return nil, gone
	}
	names := append([]string{d.Package}, d.Recipe.Also...)
	wanted := map[string][]string{} // by suite; those of one are looked up at once
	for i, name := range names {
		name, suite, other := strings.Cut(name, "/") // as apt writes it
		if !other {
			suite = d.Suite
		}
		wanted[suite], names[i] = append(wanted[suite], name), suite+"/"+name
	}
	found := map[string]debian.Package{}
	for suite, names := range wanted {
		there, err := a.Debian.Find(ctx, suite, names...)
		if err != nil {
			return nil, fault.New(fault.Failed, "the packages of "+k.Title+" "+r.Release+" cannot be looked up", suite,
				"Check the connection and try again. Nothing was touched.").Wrap(err)
		}
		for name, p := range there {
			found[suite+"/"+name] = p
		}
	}
	var out []debian.Package
	for _, name := range names {
		p, there := found[name]
		if !there {
			return nil, fault.New(fault.Failed, "the archive has no package "+name, k.Title+" "+r.Release,
				"Tell the kit's author. Nothing was touched.")
		}
		out = append(out, p)
	}
	if out[0].Version != d.Version {
		return nil, gone
	}
	return out, nil
}

// make fetches packages, and makes the archive of them.
func (a *Archives) make(ctx context.Context, d kit.Recipe, packages []debian.Package) (string, error) {
	var debs []string
	for _, p := range packages {
		file, err := a.Debian.Get(ctx, p)
		if err != nil {
			return "", err
		}
		debs = append(debs, file)
	}
	recipe := debian.Recipe{Take: d.Take, Without: d.Without, Put: d.Put}
	for _, c := range d.Change {
		recipe.Change = append(recipe.Change, debian.Change(c))
	}
	if err := os.MkdirAll(a.Folder, 0o700); err != nil {
		return "", err
	}
	file, err := os.CreateTemp(a.Folder, "made-")
	if err != nil {
		return "", err
	}
	defer os.Remove(file.Name())
	sum := sha256.New()
	err = debian.Make(recipe, debs, io.MultiWriter(file, sum))
	if err := errors.Join(err, file.Close()); err != nil {
		return "", err
	}
	name := filepath.Join(a.Folder, strings.ToLower(hex.EncodeToString(sum.Sum(nil))))
	return name, os.Rename(file.Name(), name)
}
