// Package trial tries a kit: an app's whole life on real servers that are started for
// it, on this machine, and end with it. Install, sign-in, what an owner does, backup,
// update, copy, move, restore, adopt, renewal and removal: a line for each, and at the
// end the account as it began.
package trial

import (
	"context"
	"maps"
	"slices"
	"strings"
	"time"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/trial/servers"
)

// Trial is a kit that is to be tried.
type Trial struct {
	Kits     catalogue.Source
	App      string
	Archives *release.Archives // where its archives are had from
	On       []string          // words of Grounds; those of a kind that is not named count all
	Keep     bool              // what fails is left as it is
	Tell     func(Line)
}

// Line is what an act came to.
type Line struct {
	Ground string // where
	Act    string
	Took   time.Duration
	Said   string // what is worth knowing
	Err    error
}

// The words for grounds, by kind.
var (
	Webs    = []string{"nginx", "apache"}
	Reaches = []string{"local", "sftp", "ftps"}
)

// Ground is where a life is lived.
type Ground struct{ Engine, Web, Reach string }

// Name names it.
func (g Ground) Name() string {
	parts := slices.DeleteFunc([]string{g.Engine, g.Web, g.Reach}, func(s string) bool { return s == "" })
	return strings.Join(parts, ", ")
}

// Grounds lists the fewest on which each engine that the app can use, each kind of web
// server and each reach comes once. A word that is none of them is a fault.
func (t *Trial) Grounds(ctx context.Context) ([]Ground, error) {
	k, err := t.kit(ctx)
	if err != nil {
		return nil, err
	}
	engines := slices.Sorted(maps.Keys(k.Newest().Needs.Database))
	all := slices.Concat(engines, Webs, Reaches)
	for _, word := range t.On {
		if !slices.Contains(all, word) {
			return nil, fault.New(fault.Usage, "there is no "+word+" to try it on", t.App, "There are "+
				strings.Join(all, ", ")+".")
		}
	}
	webs := t.wanted(Webs)
	if k.Place.Rewriting {
		webs = slices.DeleteFunc(webs, func(s string) bool { return s == "nginx" }) // knows no .htaccess
	}
	if len(engines) == 0 {
		engines = []string{""}
	} else {
		engines = t.wanted(engines)
	}
	reaches := t.wanted(Reaches)
	var out []Ground
	for i := range max(len(engines), len(webs), len(reaches)) {
		if len(webs) > 0 {
			out = append(out, Ground{engines[i%len(engines)], webs[i%len(webs)], reaches[i%len(reaches)]})
		}
	}
	if len(out) == 0 {
		return nil, fault.New(fault.Usage, k.Title+" needs rewriting, which none of the servers named does here", t.App,
			"Try it on apache.")
	}
	return out, nil
}

// wanted lists the words of a kind that were named, or all.
func (t *Trial) wanted(all []string) []string {
	out := slices.DeleteFunc(slices.Clone(all), func(s string) bool { return !slices.Contains(t.On, s) })
	if len(out) == 0 {
		return slices.Clone(all)
	}
	return out
}

// kit reads the kit, with the releases that there are.
func (t *Trial) kit(ctx context.Context) (catalogue.Entry, error) {
	k, err := catalogue.New(t.Kits).Find(t.App)
	if err != nil {
		return k, err
	}
	return k, t.Archives.LookUp(ctx, k.Kit)
}

// Live lives an app's life on a ground, and says whether all of it went well.
func (t *Trial) Live(ctx context.Context, s servers.Stage, g Ground) (bool, error) {
	k, err := t.kit(ctx)
	if err != nil {
		return false, err
	}
	w, err := t.world(ctx, s, g, k)
	if err != nil {
		return false, err
	}
	defer w.close()
	l := &life{Trial: t, world: w, kit: k, ground: g}
	return l.live(ctx), nil
}
