package archive

import (
	"context"
	"io"
	"os"
	"path"
	"slices"
	"strings"
	"time"
)

// Survey is what unpacking an archive will make.
type Survey struct {
	Files   int      `json:"files"`
	Bytes   int64    `json:"bytes"`
	Entries []string `json:"entries"` // what stands at the top, sorted

	Sizes  map[string]int64 `json:"sizes"`  // of every file, by its path
	Newest time.Time        `json:"newest"` // when the last of its files was changed
}

// Look reads a whole archive without writing anything. Skip lists parts that
// will not be unpacked.
func Look(ctx context.Context, file *os.File, top string, skip []string, limits Limits) (Survey, error) {
	s := Survey{Sizes: map[string]int64{}}
	err := Walk(ctx, file, top, limits, func(e Entry, _ io.Reader) error {
		if Skipped(e.Name, skip) {
			return nil
		}
		first, _, _ := strings.Cut(e.Name, "/")
		if i, found := slices.BinarySearch(s.Entries, first); !found {
			s.Entries = slices.Insert(s.Entries, i, first)
		}
		if !e.Dir {
			s.Files, s.Bytes = s.Files+1, s.Bytes+e.Size
			s.Sizes[e.Name] = e.Size
			if e.Time.After(s.Newest) {
				s.Newest = e.Time
			}
		}
		return nil
	})
	return s, err
}

// Skipped says whether a name is one of the parts or lies below one.
func Skipped(name string, parts []string) bool {
	return slices.ContainsFunc(parts, func(p string) bool {
		p = path.Clean(p)
		return name == p || strings.HasPrefix(name, p+"/")
	})
}
