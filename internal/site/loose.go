package site

import (
	"io/fs"
	"slices"
	"strconv"
	"strings"

	"tivset/internal/app/archive"
	"tivset/internal/hosting/files"
)

// InsecureMode is a file or folder that others on the machine may write, or read though
// it is the configuration.
type InsecureMode struct {
	Name string      `json:"name"` // from the account's top
	Mode fs.FileMode `json:"mode"` // that it has
	Want fs.FileMode `json:"want"` // that it should have
}

// Loose finds them among what is in the site's folder. Written are those of them
// where the app itself writes: its pages may run as another user than the
// account's, and need them so.
func (s *Site) Loose(there map[string]files.Found) (loose, written []InsecureMode) {
	for name, f := range there {
		if f.Mode&fs.ModeSymlink != 0 {
			continue
		}
		one := InsecureMode{f.Path, f.Mode.Perm(), s.rightful(name, f.Mode.Perm())}
		switch {
		case one.Mode == one.Want:
		case archive.Skipped(name, s.Kit.Place.Writes()):
			written = append(written, one)
		default:
			loose = append(loose, one)
		}
	}
	for _, list := range [][]InsecureMode{loose, written} {
		slices.SortFunc(list, func(a, b InsecureMode) int { return strings.Compare(a.Name, b.Name) })
	}
	return loose, written
}

// rightful is the mode that something should have instead of one that it has.
func (s *Site) rightful(name string, mode fs.FileMode) fs.FileMode {
	mode &^= 0o002
	for _, c := range s.Kit.Config {
		if c.Path != name || len(c.Constant) > 0 {
			continue
		}
		wanted, err := strconv.ParseUint(c.Mode, 8, 32)
		if err != nil {
			wanted = 0o640
		}
		if wanted&0o004 == 0 {
			mode &^= 0o004
		}
	}
	return mode
}
