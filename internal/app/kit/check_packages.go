package kit

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// packages checks where releases come from by themselves (Debian Policy, 5.6.1).
func (c *checker) packages() {
	const key = "archive.debian"
	d := *c.Archive.Debian
	for i, name := range append([]string{d.Package}, d.Also...) {
		name, suite, other := strings.Cut(name, "/")
		if !packageName.MatchString(name) || other && (i == 0 || !suiteName.MatchString(suite)) {
			c.wrong(key+map[bool]string{true: ".package", false: ".also"}[i == 0],
				fmt.Sprintf("%q is not a package's name", name), "Write it as apt has it.")
		}
	}
	if len(d.Suites) == 0 {
		c.wrong(key+".suites", "no suite is named", "Write their codenames: [bookworm, trixie].")
	}
	for _, suite := range d.Suites {
		if !suiteName.MatchString(suite) {
			c.wrong(key+".suites", fmt.Sprintf("%q is not a suite", suite), "Write its codename, such as bookworm.")
		}
	}
	if len(d.Take) == 0 {
		c.wrong(key+".take", "nothing is taken of the packages", "Write take: {usr/share/NAME: .}.")
	}
	c.recipe(key, d.Recipe)
	c.needs("needs", c.Needs)
	for i, v := range d.Variants {
		key := key + ".variants." + strconv.Itoa(i)
		c.need(key+".releases", v.Releases, `releases: ">=2.0"`)
		c.versions(key+".releases", v.Releases)
		c.recipe(key, v.Recipe)
		if v.Needs != nil {
			c.needs(key+".needs", *v.Needs)
		}
	}
}

func (c *checker) recipe(key string, r Recipe) {
	for _, from := range slices.Sorted(maps.Keys(r.Take)) {
		c.inside(key+".take", from)
		if to := r.Take[from]; to != "." {
			c.inside(key+".take."+from, to)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Put)) {
		c.inside(key+".put", name)
	}
	for _, pattern := range r.Without {
		if !doublestar.ValidatePattern(pattern) {
			c.wrong(key+".without", fmt.Sprintf("%q is not a pattern", pattern),
				"* and ? stand for parts of a name, ** for any folders.")
		}
	}
	for i, one := range r.Change {
		if !doublestar.ValidatePattern(one.File) || one.File == "" || one.From == "" {
			c.wrong(key+".change."+strconv.Itoa(i), "a change has file, from and to", "Name the file, and the text that it has.")
		}
	}
}

var (
	packageName = regexp.MustCompile(`^[a-z0-9][a-z0-9+.-]+$`)
	suiteName   = regexp.MustCompile(`^[a-z]+$`)
)
