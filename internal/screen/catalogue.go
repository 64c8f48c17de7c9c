package screen

import (
	"strconv"
	"strings"
	"time"

	"tivset/internal/app/index"
	"tivset/internal/records/catalogues"
)

// CatalogueState says in a few words how a catalogue stands.
func CatalogueState(x catalogues.Listed) string {
	switch {
	case x.Wrong != "":
		return x.Wrong
	case x.Faulty > 0:
		return Counted(x.Faulty, "kit") + " with mistakes"
	case x.Expires != nil:
		return "number " + strconv.Itoa(x.Serial) + ", valid until " + x.Expires.Format(time.DateOnly)
	}
	return "good"
}

// CatalogueNews prints what looking at a catalogue brought.
func (s *Streams) CatalogueNews(name string, n index.News) {
	var parts []string
	for _, p := range []struct {
		what string
		apps []string
	}{{"new", n.New}, {"changed", n.Changed}, {"no more in it", n.Left}} {
		if len(p.apps) > 0 {
			parts = append(parts, p.what+": "+strings.Join(p.apps, ", "))
		}
	}
	what := "nothing has changed"
	if len(parts) > 0 {
		what = strings.Join(parts, "; ")
	}
	s.Print("%s is fresh: %s. Number %d, kits: %d, valid until %s.", name, what, n.Serial, n.Kits,
		n.Expires.Format(time.DateOnly))
}
