package screen

import (
	"fmt"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/step"
	"tivset/internal/work"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/repair"
	"tivset/internal/work/update"
)

// ReviewUpdate words what an update will do.
func (s *Streams) ReviewUpdate(p *update.Plan) string {
	var between []string
	for _, b := range p.Releases {
		between = append(between, fmt.Sprintf("%s of %s, %s", b.Release, b.Date, level(b.Level, b.Urgent)))
	}
	all := []Pair{{"Releases", strings.Join(between, "\n")}, {"Files",
		"the app's own are replaced; configuration and what the app has written stay" +
			named("\ngoes along, added by hand: ", p.Carried) + named("\nLOST, changed by hand: ", p.Lost)}}
	if len(p.Steps) > 0 {
		all = append(all, Pair{"Migration", strings.Join(once(p.Steps), "\n")})
	}
	first := "no backup"
	if p.Backup {
		first = "backup first"
	}
	all = append(all, Pair{"Care", first + ", put back if the check fails"},
		Pair{"Closed", "visitors see a notice until the new release is checked, for " + about(p.Closed) +
			" and as long as the app migrates"})
	if len(p.Needs) > 0 {
		all = append(all, Pair{"Checked", checked(p.Needs)})
	}
	return s.reviewed(p.Site.Title+": "+p.From, p.To+"   "+p.Site.URL, all, p.Warnings)
}

// about words for how long something is likely to take.
func about(seconds int) string { return work.About(time.Duration(seconds) * time.Second) }

// reviewed is a review with its head and its notes.
func (s *Streams) reviewed(from, to string, all []Pair, warnings []string) string {
	var out strings.Builder
	fmt.Fprintf(&out, "  %s  →  %s\n\n", s.paint(strong, Clean(from)), s.paint(accent, Clean(to)))
	out.WriteString(s.pairs(all))
	for _, w := range warnings {
		fmt.Fprintf(&out, "\n  %s %s\n", s.paint(bad, "Note:"), strings.ReplaceAll(s.fold(sentence(Clean(Spelled(w))), 8),
			"\n", "\n        "))
	}
	return out.String()
}

// once leaves out lines that say the same as the one before.
func once(lines []string) []string {
	var out []string
	for _, l := range lines {
		if len(out) == 0 || out[len(out)-1] != l {
			out = append(out, l)
		}
	}
	return out
}

// named lists names after a heading, and nothing when there are none.
func named(heading string, names []string) string {
	const most = 12
	if len(names) == 0 {
		return ""
	}
	rest := ""
	if len(names) > most {
		rest = fmt.Sprintf("\nand %d more", len(names)-most)
		names = names[:most]
	}
	return heading + strings.Join(cleanNames(names), ", ") + rest
}

// ReviewCopy words what a copy or a move will do.
func (s *Streams) ReviewCopy(p *place.Plan) string {
	all := []Pair{{"Where", where(p.Plan)}}
	if p.Data != nil {
		all = append(all, Pair{"Data", data(p.Data) + "\nstored addresses become those of the new place"})
	}
	all = append(all, Pair{"Admin", p.Admin.Name + ", with the password that there is"})
	if p.Move {
		all = append(all, Pair{"Closed", "visitors of the old place see a notice for " + about(p.Closed) +
			", until the new one is checked"}, Pair{"Then", "once it is, the old place goes: " + p.From.Address},
			Pair{"Old address", oldAddress(p)})
	} else {
		all = append(all, Pair{"Original", "stays as it is"})
	}
	all = append(all, Pair{"Account", changes(p.Changes)})
	return s.reviewed(p.From.URL, p.Place.URL, all, p.Warnings)
}

// oldAddress says what the old address of a site that moves will do.
func oldAddress(p *place.Plan) string {
	if !p.Leads() {
		return "leads nowhere; to have it lead to the new one, add --redirect"
	}
	return "leads every visitor to the same page of the new one (301), for good; where its server obeys no rules, from " +
		"the pages that there were. Until it is freed no site can be there:\n" + Spelled(fault.Call("free", p.From.Address))
}

// ReviewRemove words what a removal will do.
func (s *Streams) ReviewRemove(p *remove.Plan) string {
	var all []Pair
	if len(p.Goes) > 0 {
		all = append(all, Pair{"Goes", strings.Join(short(p.Goes), "\n")})
	}
	if p.Database != "" {
		text := "database " + p.Database
		switch {
		case p.Tables != "":
			text = "the tables of database " + p.Database + " that begin with " + p.Tables
		case p.User != "":
			text += ", user " + p.User
		}
		all = append(all, Pair{"Data", text})
	}
	if len(p.Stays) > 0 {
		all = append(all, Pair{"Stays", strings.Join(short(p.Stays), "\n")})
	}
	if len(p.PutBack) > 0 {
		all = append(all, Pair{"Put back", strings.Join(p.PutBack, "\n")})
	}
	if len(p.Leading) > 0 {
		all = append(all, Pair{"Redirects", strings.Join(p.Leading, "\n") + "\nlead to it, and go along"})
	}
	if len(p.Goes) > 0 {
		all = append(all, Pair{"Closed", "visitors see a notice until it is gone"})
	}
	last := "none is made"
	if p.Backup {
		last = "a last one is made and kept in Tivset's folder in the account"
	}
	all = append(all, Pair{"Backup", last})
	return s.reviewed(p.Site.Title, "removed from "+p.Site.URL, all, p.Warnings)
}

func cleanNames(names []string) []string {
	out := make([]string, len(names))
	for i, name := range names {
		out[i] = CleanName(name)
	}
	return out
}

// short lists the first of many names.
func short(names []string) []string {
	const most = 15
	names = cleanNames(names)
	if len(names) <= most {
		return names
	}
	return append(names[:most:most], fmt.Sprintf("and %d more", len(names)-most))
}

// BackedUp prints where a backup is.
func (s *Streams) BackedUp(b *step.BackedUp) {
	s.Print("%s\n", s.paint(good, "A backup of "+b.Site.Address+" is made and verified."))
	text := fmt.Sprintf("%d files", b.Files)
	if b.Data > 0 {
		text += ", and a database of " + humanize.Bytes(uint64(b.Data))
	}
	s.Pairs([]Pair{{"File", kept(b.Kept)}, {"Holds", text}, {"Size", humanize.Bytes(uint64(b.Packed)) +
		", before packing " + humanize.Bytes(uint64(b.Bytes))}, {"SHA-256", b.SHA256}})
	for _, name := range b.Dropped {
		s.Say("Deleted, as older than what is kept: %s", name)
	}
	for _, w := range b.Warnings {
		s.Warn(w)
	}
}

func kept(k step.Kept) string {
	if k.Depot == step.Here {
		return k.File + ", on this machine"
	}
	return k.File + ", in the account"
}

// Settled prints how a job with a site ended, in one sentence, and where the
// site is.
func (s *Streams) Settled(what string, r *work.Done, more ...Pair) {
	s.Print("%s\n", s.paint(good, what))
	s.Pairs(append([]Pair{{"Address", r.Site.URL}, {"Admin area", r.Site.AdminURL}}, more...))
	s.Say("\n%s", s.fold(s.proven(r.Checks), 0))
	for _, w := range r.Warnings {
		s.Warn(w)
	}
}

// Before is the line that says where the state before a change is kept.
func Before(b *step.BackedUp) []Pair {
	if b == nil {
		return nil
	}
	return []Pair{{"Backup", "of what was before: " + kept(b.Kept)}}
}

// Removed prints what a removal left.
func (s *Streams) Removed(r *remove.Done) {
	s.Print("%s", s.paint(good, r.Plan.Site.Title+" is removed from "+r.Plan.Site.URL+"."))
	all := Before(r.Backup)
	if len(r.Plan.Stays) > 0 {
		all = append(all, Pair{"Stays", strings.Join(short(r.Plan.Stays), "\n")})
	}
	back := "not possible: there is no backup of it"
	if r.Backup != nil {
		back = Spelled(fault.Call("restore", r.Plan.Site.Address))
		if r.Backup.Depot == step.Here {
			back = Spelled(fault.Call("restore", r.Plan.Site.Address, "--from", r.Backup.File))
		}
	}
	s.Print("")
	s.Pairs(append(all, Pair{"To have it back", back}))
	if len(r.Freed) > 0 {
		s.Print("Nothing leads there any more from %s.", strings.Join(r.Freed, ", "))
	}
	for _, w := range r.Warnings {
		s.Warn(w)
	}
}

// Repaired prints what of a site is right again.
func (s *Streams) Repaired(r *repair.Done) {
	var what []Pair
	for _, p := range []struct {
		label string
		names []string
	}{{"Files", r.Files}, {"Taken away", r.Taken}, {"Closed to others", r.Closed}} {
		if len(p.names) > 0 {
			what = append(what, Pair{p.label, strings.Join(short(p.names), "\n")})
		}
	}
	s.Settled("The release's own files of "+r.Site.Title+" are back, and the site was checked.", &r.Done, append(what,
		Before(r.Backup)...)...)
}

// Checks prints what a look at a site came to, what is not right first.
func (s *Streams) Checks(e check.Examined) {
	head := s.paint(good, "✓")
	wrong := 0
	for _, c := range e.Checks {
		if !c.OK {
			wrong++
		}
	}
	if s.Quiet && wrong == 0 {
		return
	}
	text := fmt.Sprintf("all %d checks passed", len(e.Checks))
	if wrong > 0 {
		head, text = s.paint(bad, "✗"), fmt.Sprintf("%d of %d checks failed", wrong, len(e.Checks))
	}
	s.Print("%s", strings.ReplaceAll(s.fold(head+" "+s.paint(strong, Clean(e.Address))+"  "+e.App+": "+text, 2), "\n",
		"\n  "))
	var all []Pair
	for _, fine := range []bool{false, true} {
		for _, c := range e.Checks {
			if c.OK == fine && (!fine || wrong == 0 || s.Loud || c.Accepted) {
				mark := s.paint(good, "✓ ")
				switch {
				case !fine:
					mark = s.paint(bad, "✗ ")
				case c.Accepted:
					mark = s.paint(faint, "– ")
				}
				all = append(all, Pair{mark + c.Name, CleanName(c.Detail)})
			}
		}
	}
	s.Pairs(all)
}
