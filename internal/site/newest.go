package site

import (
	"slices"
	"time"

	"tivset/internal/kit"
	"tivset/internal/ledger"
)

// news are the newest releases of apps, each looked up once.
type news struct {
	*Service
	kits map[string]*kit.Kit
}

// tell fills in what is found out when a site is shown: whether there is
// something newer, how far it goes, and whether the site takes it by itself.
func (n *news) tell(x *ledger.Site) {
	k, known := n.kits[x.App]
	if !known {
		if e, err := n.Catalogue.Find(x.App); err == nil {
			k = e.Kit
		}
		n.kits[x.App] = k
	}
	if k == nil {
		return // no kit knows the app any more
	}
	x.Newer, x.NewerLevel, x.Due = "", "", ""
	if x.Release == k.Newest().Release {
		return
	}
	for _, r := range k.Between(x.Release, k.Newest().Release) {
		if x.Newer == "" {
			x.Newer = r.Release
		}
		if slices.Index(kit.Levels, r.Level) > slices.Index(kit.Levels, x.NewerLevel) {
			x.NewerLevel = r.Level
		}
	}
	x.Due = due(k, *x)
}

// Standing says what speaks for and against the n-th release of a kit.
func (s *Service) Standing(k *kit.Kit, n int) string {
	r := k.Releases[n]
	text := "older"
	if n == 0 {
		text = "the newest"
	}
	switch until, err := time.Parse(time.DateOnly, r.Fixes); {
	case err != nil:
	case until.After(s.Now()):
		text += ", gets fixes until " + r.Fixes
	default:
		text += ", no fixes since " + r.Fixes
	}
	return text
}
