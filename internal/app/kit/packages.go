package kit

import (
	"maps"
	"slices"

	"tivset/internal/app/version"
)

// Origin says where an app's releases come from by themselves.
type Origin struct {
	Debian *Debian `yaml:"debian"`
}

// Debian says of which packages of a Debian archive the releases' archives are made.
type Debian struct {
	Package  string   `yaml:"package"` // the app's own, whose version is the release
	Suites   []string `yaml:"suites"`  // such as bookworm
	Recipe   `yaml:",inline"`
	Variants []Variant `yaml:"variants"` // what only some releases need besides
}

// Recipe is how an archive is made of packages.
type Recipe struct {
	Also    []string          `yaml:"also"`    // packages that what is taken has links into
	Take    map[string]string `yaml:"take"`    // places in the packages, and where each comes to be: "." for the top
	Without []string          `yaml:"without"` // patterns of what is not taken, by the names that it would have
	Put     map[string]string `yaml:"put"`     // files of the archive's own: what the package left to the server
	Change  []Change          `yaml:"change"`  // what a package fixed, and no hosting account has
}

// Variant is what releases of a range need besides.
type Variant struct {
	Releases string `yaml:"releases"` // a range of versions
	Recipe   `yaml:",inline"`
	Needs    *Needs `yaml:"needs"` // in place of the kit's
}

// Change replaces a text in files of the archive.
type Change struct {
	File string `yaml:"file"` // a pattern of names
	From string `yaml:"from"`
	To   string `yaml:"to"`
}

// Packages are what one release is made of.
type Packages struct {
	Package string
	Version string // the package's; "" where the release came long ago
	Suite   string
	Recipe  Recipe
}

// Arrival is a release that a Debian archive has.
type Arrival struct {
	Version string `json:"version"` // the package's
	Suite   string `json:"suite"`
	Date    string `json:"date"`   // YYYY-MM-DD, since when it is there
	Urgent  bool   `json:"urgent"` // it fixes a security hole
}

// FollowsUpstream says whether the app's releases come by themselves.
func (k *Kit) FollowsUpstream() bool { return k.Archive.Debian != nil }

// Arrived puts the releases that have come into the kit, newest first; of several that
// are the same the first counts.
func (k *Kit) Arrived(all []Arrival) {
	var out []Release
	for _, a := range all {
		name := version.OfPackage(a.Version)
		if !slices.ContainsFunc(out, func(r Release) bool { return r.Release == name }) {
			out = append(out, k.arrival(name, a))
		}
	}
	slices.SortFunc(out, func(a, b Release) int { return version.Compare(b.Release, a.Release) })
	for i := range out {
		out[i].Level = "features"
		if i+1 < len(out) {
			out[i].Level = version.Level(out[i+1].Release, out[i].Release)
		}
	}
	k.Releases = out
}

// Past is a release that came by itself once, whether it is still there or not; nil for
// an app whose releases do not.
func (k *Kit) Past(name string) *Release {
	if found := k.Find(name); found != nil && found.Release == name || !k.FollowsUpstream() {
		return found
	}
	r := k.arrival(name, Arrival{})
	return &r
}

func (k *Kit) arrival(name string, a Arrival) Release {
	d := k.Archive.Debian
	made := Packages{Package: d.Package, Version: a.Version, Suite: a.Suite, Recipe: d.Recipe.with(Recipe{})}
	r := Release{Release: name, Date: a.Date, Urgent: a.Urgent, Needs: k.Needs}
	for _, v := range d.Variants {
		if version.Within(v.Releases, name) {
			made.Recipe = made.Recipe.with(v.Recipe)
			if v.Needs != nil {
				r.Needs = *v.Needs
			}
		}
	}
	r.Archive.Packages = &made
	return r
}

// with is a recipe and what another has besides.
func (r Recipe) with(more Recipe) Recipe {
	out := Recipe{Also: slices.Concat(r.Also, more.Also), Take: map[string]string{},
		Put: map[string]string{}, Without: slices.Concat(r.Without, more.Without),
		Change: slices.Concat(r.Change, more.Change)}
	maps.Copy(out.Take, r.Take)
	maps.Copy(out.Take, more.Take)
	maps.Copy(out.Put, r.Put)
	maps.Copy(out.Put, more.Put)
	return out
}

// Upstream is the version that the app itself has.
func (r *Release) Upstream() string {
	if r.Archive.Packages == nil {
		return r.Release
	}
	return version.Upstream(r.Release)
}

// Urgent says whether a release between two fixes a security hole. One that a suite
// has now has no hole that is known to be mended.
func (k *Kit) Urgent(after, to string) bool {
	if slices.ContainsFunc(k.Releases, func(r Release) bool { return r.Release == after }) && k.FollowsUpstream() {
		return false
	}
	return slices.ContainsFunc(k.Between(after, to), func(r Release) bool { return r.Urgent })
}
