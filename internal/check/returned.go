package check

import (
	"slices"
	"strings"
	"time"

	"tivset/internal/app/archive"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
)

// mostSuspects is how many files a record remembers, the newest.
const mostSuspects = 100

const minute = "2006-01-02 15:04 UTC"

// Suspects brings up to date what a record remembers of an intruder's files: those of the names are there now, and all
// others are gone. Names are below the site's folder.
func Suspects(x *ledger.Site, names []string, now time.Time) {
	now = now.UTC()
	all := remembered(*x, names, now)
	for i := range all {
		s := &all[i]
		there, away := slices.Contains(names, s.Name), s.GoneAt != nil && s.AgainAt == nil
		switch {
		case there && away:
			s.AgainAt = &now
		case !there && !away:
			s.GoneAt, s.AgainAt = &now, nil
		}
	}
	x.Suspects = all[max(0, len(all)-mostSuspects):]
}

// Removed notes that files were taken away, or put back as the release has them.
func Removed(x *ledger.Site, names []string, now time.Time) {
	now = now.UTC()
	all := remembered(*x, names, now)
	for i := range all {
		if slices.Contains(names, all[i].Name) {
			all[i].GoneAt, all[i].AgainAt = &now, nil
		}
	}
	x.Suspects = all[max(0, len(all)-mostSuspects):]
}

// remembered is what a record remembers, and some names besides. What the owner vouched for is nobody else's.
func remembered(x ledger.Site, names []string, now time.Time) []ledger.Suspect {
	all := slices.DeleteFunc(slices.Clone(x.Suspects), func(s ledger.Suspect) bool {
		return slices.ContainsFunc(x.Mine, func(m ledger.Mine) bool { return archive.Skipped(s.Name, []string{m.Name}) }) &&
			!slices.Contains(names, s.Name)
	})
	for _, name := range names {
		known := slices.ContainsFunc(all, func(s ledger.Suspect) bool { return s.Name == name })
		if !known && ledger.Nameable(name) {
			all = append(all, ledger.Suspect{Name: name, SeenAt: now})
		}
	}
	return all
}

// returned tells of what was taken away and is there again: then something in the account puts it back.
func (l *looking) returned() {
	Suspects(l.record, slices.Concat(l.found.Changed, l.found.Programs), l.Now())
	var again []string
	for _, s := range l.record.Suspects {
		if s.AgainAt != nil {
			again = append(again, s.Name+" (taken away by "+s.GoneAt.Format(minute)+", there by "+s.AgainAt.Format(minute)+")")
		}
	}
	if len(again) == 0 {
		return
	}
	const most = 3
	text := strings.Join(again[:min(most, len(again))], ", ")
	if len(again) > most {
		text += ", …"
	}
	l.add("come back", false, "what was taken away is there again: %s. Something puts it there: look for programs and "+
		"timers that are not yours in all of the account, change its passwords at the host, and then the site's: %s", text,
		fault.Call("reveal", l.record.Address, "--renew"))
}
