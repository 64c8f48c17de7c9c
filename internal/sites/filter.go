package sites

import (
	"cmp"
	"context"
	"maps"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/app/version"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/suggest"
)

// term is one thing that is to hold of a site: what, how, and the words that it may be.
type term struct {
	of, how string
	words   []string
}

var termForm = regexp.MustCompile(`^([a-z][a-z0-9_.-]*)(!=|>=|<=|=|~|>|<)(.*)$`)

// properties are what a filter may ask of a site, besides its labels.
var properties = map[string]func(x ledger.Site, kind string) string{
	"address": func(x ledger.Site, _ string) string { return x.Address },
	"account": func(x ledger.Site, _ string) string { return x.Account },
	"app":     func(x ledger.Site, _ string) string { return x.App },
	"release": func(x ledger.Site, _ string) string { return x.Release },
	"newer":   func(x ledger.Site, _ string) string { return x.Newer },
	"kind":    func(_ ledger.Site, kind string) string { return kind },
	"health":  func(x ledger.Site, _ string) string { return cmp.Or(x.Health, "unknown") },
	"next":    func(x ledger.Site, _ string) string { return WantOf(x).What },
	"email":   func(x ledger.Site, _ string) string { return x.Admin.Email },
	"title":   func(x ledger.Site, _ string) string { return x.Title },
}

// IsProperty says whether every site has something of that name: no label is called so.
func IsProperty(name string) bool { return properties[name] != nil }

// Filter says which sites are meant. Its terms hold all together.
type Filter struct{ terms []term }

// Filtered reads a filter: terms such as app=inkreach, health!=good, release<2, email~lockside, or customer=brook for a
// label. Words apart by commas are one or the other.
func Filtered(texts []string) (f Filter, err error) {
	for _, text := range texts {
		m := termForm.FindStringSubmatch(strings.TrimSpace(text))
		if m == nil {
			return f, fault.New(fault.Usage, "that says nothing of sites", "--where "+text, "Write such as app=inkreach, "+
				"health!=good, \"release<2\", next~backup, or customer=brook for a label.")
		}
		if m[1] == "health" && m[2] == "=" {
			for _, word := range strings.Split(m[3], ",") {
				if !slices.Contains(Healths, word) {
					return f, fault.New(fault.Usage, "no site's health is "+word, "--where "+text,
						strings.TrimSpace(suggest.Hint(word, Healths)+" It is one of "+strings.Join(Healths, ", ")+"."))
				}
			}
		}
		f.terms = append(f.terms, term{m[1], m[2], strings.Split(m[3], ",")})
	}
	return f, nil
}

// Holds says whether a site is meant; kind is what its app is for.
func (f Filter) Holds(x ledger.Site, kind string) bool {
	return !slices.ContainsFunc(f.terms, func(t term) bool { return !t.holds(x, kind) })
}

func (t term) holds(x ledger.Site, kind string) bool {
	is := x.Labels[t.of]
	if property := properties[t.of]; property != nil {
		is = property(x, kind)
	}
	some := slices.ContainsFunc(t.words, func(word string) bool { return t.word(is, word) })
	return some != (t.how == "!=")
}

// word says whether a value is so.
func (t term) word(is, word string) bool {
	switch t.how {
	case "~":
		return strings.Contains(strings.ToLower(is), strings.ToLower(word))
	case "<", "<=", ">", ">=":
		order := version.Compare(is, word)
		return is != "" && (strings.HasPrefix(t.how, "<") && order < 0 || strings.HasPrefix(t.how, ">") && order > 0 ||
			strings.HasSuffix(t.how, "=") && order == 0)
	}
	return strings.EqualFold(is, word)
}

// Where gives the sites that a filter means, of an account or of all; a fault where it means none.
func Where(ctx context.Context, book *site.Book, texts []string, account string) ([]ledger.Site, error) {
	f, err := Filtered(texts)
	if err != nil {
		return nil, err
	}
	all, err := book.All(ctx)
	if err != nil {
		return nil, err
	}
	if err := f.asked(all); err != nil {
		return nil, err
	}
	kinds := map[string]string{}
	found := slices.DeleteFunc(all, func(x ledger.Site) bool {
		if _, known := kinds[x.App]; !known {
			kinds[x.App] = book.KindOf(x.App)
		}
		return account != "" && x.Account != account || !f.Holds(x, kinds[x.App])
	})
	if len(found) == 0 {
		return nil, fault.NewAs(fault.NoSuchSite, fault.Usage, "no site on record is so", "--where "+strings.Join(texts, " "),
			"See all of them with: "+fault.Call("sites")+". Nothing was touched.")
	}
	return found, nil
}

// asked refuses a term of what no site has: neither a property nor any site's label.
func (f Filter) asked(all []ledger.Site) error {
	labels := map[string]bool{}
	for _, x := range all {
		for name := range x.Labels {
			labels[name] = true
		}
	}
	names := append(slices.Collect(maps.Keys(properties)), slices.Collect(maps.Keys(labels))...)
	for _, t := range f.terms {
		if !slices.Contains(names, t.of) {
			return fault.New(fault.Usage, "no site has a label "+t.of, "--where", strings.TrimSpace(suggest.Hint(t.of, names)+
				" There are "+strings.Join(slices.Sorted(slices.Values(names)), ", ")+"."))
		}
	}
	return nil
}
