// Package version compares releases: semantic versions (semver.org 2.0.0), and those
// of Debian packages (deb-version(7)), which end with the package's revision.
package version

import (
	"regexp"
	"strings"

	"github.com/Masterminds/semver/v3"
	"pault.ag/go/debian/version"
)

// Newer says whether a release is newer than another: as Debian compares them where
// one has a package's revision, by semantic versions where both are, else as texts.
func Newer(a, b string) bool {
	if revised.MatchString(a) || revised.MatchString(b) {
		return Compare(a, b) > 0
	}
	x, errX := semver.NewVersion(a)
	y, errY := semver.NewVersion(b)
	if errX == nil && errY == nil {
		return x.GreaterThan(y)
	}
	return a > b
}

// revised is a release that came as a package: 1.2.3-4, 1.2.3-4+deb12u1.
var revised = regexp.MustCompile(`^[0-9][^-]*-[0-9][0-9A-Za-z.+~]*$`)

// Compare compares two versions as Debian does: negative where the first is older,
// 0 where they are the same.
func Compare(a, b string) int {
	first, errFirst := version.Parse(a)
	second, errSecond := version.Parse(b)
	if errFirst != nil || errSecond != nil {
		return strings.Compare(a, b)
	}
	return version.Compare(first, second)
}

// OfPackage names the release that a package has: the app's own version and the
// package's revision, without epoch and what says that its source was packed anew.
func OfPackage(text string) string {
	v, err := version.Parse(text)
	if err != nil {
		return text
	}
	bare, _, _ := strings.Cut(v.Version, "+")
	bare = strings.ReplaceAll(strings.TrimSuffix(bare, "-really"), "-", ".") // really: after a version that was taken back
	if v.Revision == "" {
		return bare + "-0"
	}
	return bare + "-" + v.Revision
}

// Upstream is the app's own version in a release that came as a package; any other
// release is that itself.
func Upstream(release string) string {
	if !revised.MatchString(release) {
		return release
	}
	bare, _, _ := strings.Cut(release, "-")
	bare, _, _ = strings.Cut(bare, "~")
	return bare
}

// Level is how far a release goes from an older one: another revision of the same
// version fixes, as does another last part; the first part breaks.
func Level(from, to string) string {
	a, b := parts(Upstream(from)), parts(Upstream(to))
	switch {
	case a[0] != b[0]:
		return "breaking"
	case a[1] != b[1]:
		return "features"
	}
	return "fixes"
}

func parts(text string) [2]string {
	all := append(strings.Split(text, "."), "0", "0")
	return [2]string(all[:2])
}

// Within says whether a release is in a range of semantic versions; one that has no
// such version is in none but the empty one, which has all.
func Within(wanted, release string) bool {
	if wanted == "" {
		return true
	}
	c, err := semver.NewConstraint(wanted)
	if err != nil {
		return false
	}
	v, err := semver.NewVersion(Upstream(release))
	return err == nil && c.Check(v)
}
