package site

import (
	"fmt"
	"slices"
	"time"

	"tivset/internal/app/kit"
	"tivset/internal/records/ledger"
)

// news is what is newer than what sites have. Sites are many, apps and their
// releases few: each is looked up once.
type news struct {
	*Book
	kits  map[string]*kit.Kit
	known map[[3]string]newer
}

// newer is what there is for sites of one release with one care.
type newer struct {
	release, level, due string
	urgent              bool
}

func (b *Book) news() *news {
	return &news{b, map[string]*kit.Kit{}, map[[3]string]newer{}}
}

// tell fills in what is found out when a site is shown: whether there is
// something newer, how far it goes, and whether the site takes it by itself.
func (n *news) tell(x *ledger.Site) {
	key := [3]string{x.App, x.Release, x.Care.Accepts + " " + x.Care.After}
	found, known := n.known[key]
	if !known {
		found = n.find(*x)
		n.known[key] = found
	}
	x.Newer, x.NewerLevel, x.Due, x.Urgent = found.release, found.level, found.due, found.urgent
	if n.failedHere(*x) {
		x.Due = ""
	}
	x.Overdue = overdue(*x, n.Now())
}

// overdue says by how much a site's backup is late, with some patience; "" where it is not.
func overdue(x ledger.Site, now time.Time) string {
	const patience = 3 * time.Hour
	often, _ := x.Care.Every()
	last := x.InstalledAt
	if x.LastBackupAt != nil {
		last = *x.LastBackupAt
	}
	late := now.Sub(last) - often
	switch {
	case often == 0 || last.IsZero() || late < max(often/2, patience):
		return ""
	case late < 48*time.Hour:
		return fmt.Sprintf("%d hours", int(late.Hours()))
	}
	return fmt.Sprintf("%d days", int(late.Hours())/24)
}

// failedHere says whether what is due failed at the site, and is the same still:
// it would fail again.
func (n *news) failedHere(x ledger.Site) bool {
	k := n.kits[x.App]
	if x.Tried == nil || x.Tried.Release != x.Due || k == nil {
		return false
	}
	r := k.Find(x.Due)
	return r != nil && r.Archive.SHA256 == x.Tried.Archive
}

func (n *news) find(x ledger.Site) newer {
	k, known := n.kits[x.App]
	if !known {
		if e, err := n.Catalogue.Find(x.App); err == nil {
			k = e.Kit
		}
		n.kits[x.App] = k
	}
	if k == nil || x.Release == k.Newest().Release {
		return newer{} // or no kit knows the app any more
	}
	out := newer{due: Due(k, x, n.Now()), urgent: k.Urgent(x.Release, k.Newest().Release)}
	for _, r := range k.Between(x.Release, k.Newest().Release) {
		if out.release == "" {
			out.release = r.Release
		}
		if slices.Index(kit.Levels, r.Level) > slices.Index(kit.Levels, out.level) {
			out.level = r.Level
		}
	}
	return out
}

// Standing says what speaks for and against the n-th release of a kit.
func (b *Book) Standing(k *kit.Kit, n int) string {
	r := k.Releases[n]
	text := "older"
	if n == 0 {
		text = "the newest"
	}
	switch until, err := time.Parse(time.DateOnly, r.Fixes); {
	case err != nil:
	case until.After(b.Now()):
		text += ", gets fixes until " + r.Fixes
	default:
		text += ", no fixes since " + r.Fixes
	}
	return text
}

// Due is the newest release that a site's care takes by itself at a time, "" for none.
func Due(k *kit.Kit, x ledger.Site, now time.Time) string {
	between := k.Between(x.Release, k.Newest().Release)
	to := ""
	for _, r := range slices.Backward(between) {
		if !x.Care.AcceptsLevel(r.Level) {
			break
		}
		if x.Care.Waited(r.Date, now) || r.Urgent && k.Urgent(x.Release, r.Release) {
			to = r.Release
		}
	}
	return to
}
