package check

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
)

// The checks of what strangers see, each for what is to be done about it.
const (
	PrivateFiles = "private files"   // contents that are nobody's business
	Listings     = "folder listings" // names of what is in folders
	Caches       = "caches"          // what the app makes by itself, and could show to anybody
)

// exposures are those checks with what they say, in the order in which they are told.
var exposures = []struct{ name, says string }{
	{PrivateFiles, "the web server shows what nobody may see"},
	{Listings, "the web server lists what is in folders"},
	{Caches, "the web server shows what the app keeps for itself"},
}

// IsExposure says whether a check is of what strangers see, which only the host can change.
func IsExposure(name string) bool {
	return slices.ContainsFunc(exposures, func(e struct{ name, says string }) bool { return e.name == name })
}

// Checks words what came back as the checks of a site, one of each kind; what its owner accepted is right.
func (h Hidden) Checks(x ledger.Site) (out []Checked) {
	for _, of := range exposures {
		var names []string
		for _, s := range h.Seen {
			if s.Kind == of.name {
				names = append(names, s.Name)
			}
		}
		if len(names) == 0 {
			continue
		}
		what := of.says + counted("", names)
		if at, is := accepted(x, of.name, h.parts(of.name)); is {
			out = append(out, Checked{Name: of.name, OK: true, Accepted: true,
				Detail: "accepted on " + at.Format(time.DateOnly) + ": " + what})
			continue
		}
		out = append(out, Checked{Name: of.name, Detail: fmt.Sprintf("%s. What to send to the host: %s. To live with it: %s",
			what, fault.Call("check", x.Address, "--rules"), fault.Call("check", x.Address, "--accept", Word(of.name)))})
	}
	if len(h.Seen) == 0 && h.Asked > 0 {
		out = append(out, Checked{Name: PrivateFiles, OK: h.Mute == 0, Detail: h.detail()})
	}
	return out
}

// parts lists the parts of the app of which a check found something.
func (h Hidden) parts(name string) (out []string) {
	for _, s := range h.Seen {
		if s.Kind == name && !slices.Contains(out, s.Part) {
			out = append(out, s.Part)
		}
	}
	return out
}

// accepted says since when a site's owner accepts what a check found: nothing of it is of another part than it was
// then.
func accepted(x ledger.Site, name string, parts []string) (time.Time, bool) {
	for _, e := range x.Exposed {
		if e.Check == name && !slices.ContainsFunc(parts, func(p string) bool { return !slices.Contains(e.Parts, p) }) {
			return e.At, true
		}
	}
	return time.Time{}, false
}

// Word is a check's name as it is typed.
func Word(name string) string { return strings.ReplaceAll(name, " ", "-") }

// Accept notes that a site's owner lives with what checks find that strangers see, as it is now.
func (e *Examiner) Accept(ctx context.Context, x ledger.Site, words []string) (ledger.Site, error) {
	s, in, err := e.open(ctx, x)
	if err != nil {
		return x, err
	}
	defer in.Close()
	v := &Visit{Site: s, In: in, Maker: e.Maker, Now: e.Now, Once: true}
	if err := v.Open(); err != nil {
		return x, err
	}
	defer v.Close()
	found, err := v.Hidden(ctx)
	if err != nil {
		return x, err
	}
	for _, word := range words {
		name := strings.ReplaceAll(word, "-", " ")
		parts := found.parts(name)
		switch {
		case !IsExposure(name):
			return x, fault.New(fault.Usage, word+" is nothing that can be accepted", "--accept", "What strangers see can be: "+
				Word(PrivateFiles)+", "+Word(Listings)+" or "+Word(Caches)+". Nothing was noted.")
		case len(parts) == 0:
			return x, fault.New(fault.Usage, "there is nothing to accept: strangers see no "+name, x.Address,
				"See what there is: "+fault.Call("check", x.Address)+". Nothing was noted.")
		}
		x.Exposed = slices.DeleteFunc(slices.Clone(x.Exposed), func(e ledger.Exposed) bool { return e.Check == name })
		x.Exposed = append(x.Exposed, ledger.Exposed{Check: name, Parts: parts, At: e.Now().UTC()})
	}
	return x, e.Record(ctx, x)
}
