package plan

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/Masterminds/semver/v3"
	"github.com/dustin/go-humanize"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/site"
)

// Need is something that a release needs of the account, and what is there.
type Need struct {
	What        string `json:"what"`
	Wanted      string `json:"wanted"`
	Have        string `json:"have"`
	OK          bool   `json:"ok"`
	Recommended bool   `json:"recommended,omitempty"` // it works without, less well
	Remedy      string `json:"remedy,omitempty"`      // what to ask the host for
}

func (n Need) lacks() string { return fmt.Sprintf("%s is needed, and there is %s", n.Wanted, n.Have) }

func (n Need) warning() string {
	return fmt.Sprintf("%s: %s would be better, and there is %s. %s", n.What, n.Wanted, n.Have, n.Remedy)
}

// LookAtNeeds compares what a site's release needs of the runtime and of the
// space with what is there. Bytes is how large its files are. What lacks is a
// fault, all of it at once; what would only be better is a warning.
func LookAtNeeds(ctx context.Context, in *hosting.Account, s *site.Site, bytes int64) (needs []Need, warnings []string,
	err error) {
	needs = runtimeNeeds(s.Of.Needs.PHP)
	if free, told := in.Free(ctx); told { // an account that does not tell is asked nothing
		needs = append(needs, spaceNeed(max(bytes, s.Of.Space()), free))
	}
	warnings, err = judge(s, needs)
	return needs, warnings, err
}

// judge sorts needs that are not met into warnings and a fault.
func judge(s *site.Site, needs []Need) (warnings []string, err error) {
	var problems []fault.Problem
	for _, n := range needs {
		switch {
		case n.OK:
		case n.Recommended:
			warnings = append(warnings, n.warning())
		default:
			problems = append(problems, fault.Problem{ID: n.What, What: n.lacks(), Remedy: n.Remedy})
		}
	}
	if len(problems) == 0 {
		return warnings, nil
	}
	what := s.Title + " " + s.Release + " needs what the account does not have"
	f := fault.Of(fault.Join(what, "Ask the host for it, or choose another release: "+fault.Call("about", s.App)+
		". Nothing was touched.", problems))
	f.Kind = fault.Failed
	if len(problems) == 1 {
		f.What = fmt.Sprintf("%s: %s: %s", what, problems[0].ID, problems[0].What)
	}
	return warnings, f
}

// spaceNeed is what the disk must hold, with a tenth to spare.
func spaceNeed(need, free int64) Need {
	return Need{What: "space", Wanted: humanize.Bytes(uint64(need)), Have: humanize.Bytes(uint64(max(free, 0))),
		OK:     free >= need+need/10,
		Remedy: "Make room in the account, or ask the host for more."}
}

// runtimeNeeds says what PHP has to be. Only the one that serves the site can tell
// what it is, and the one of the command line is another: the job asks it before
// it makes anything.
func runtimeNeeds(wanted *kit.PHP) []Need {
	if wanted == nil {
		return nil
	}
	return []Need{{What: "PHP", Wanted: cmp.Or(wanted.Version, "any"), Have: "asked when it begins", OK: true}}
}

// FitPHP compares what a site's release needs with the PHP that serves the site,
// as a helper page found it; bytes is how large the site's files are.
func FitPHP(s *site.Site, bytes int64, found helperpage.Found) (warnings []string, err error) {
	wanted := s.Of.Needs.PHP
	if wanted == nil {
		return nil, nil
	}
	have := hosting.Runtime{Version: found.Version, Extensions: found.Extensions, Functions: found.Functions,
		Settings: found.Settings}
	needs := slices.DeleteFunc(phpNeeds(wanted, have), func(n Need) bool { // that it brings with it
		name, is := strings.CutPrefix(n.What, settingNeed)
		return is && kit.EnoughPHP(s.Kit.PHPSettings[name], n.Wanted)
	})
	if found.Free >= 0 {
		needs = append(needs, spaceNeed(max(bytes, s.Of.Space()), found.Free))
	}
	return judge(s, needs)
}

// Wished is what a release wants to know of PHP.
type Wished []kit.PHPWish

// Wishes are what a release needs and what it would like.
func Wishes(p *kit.PHP) Wished {
	if p == nil {
		return nil
	}
	out := Wished{p.Wish()}
	if p.Recommended != nil {
		out = append(out, *p.Recommended)
	}
	return out
}

func (w Wished) functions() (out []string) {
	for _, wish := range w {
		out = append(out, wish.Functions...)
	}
	return out
}

func (w Wished) settings() (out []string) {
	for _, wish := range w {
		out = slices.AppendSeq(out, maps.Keys(wish.Settings))
	}
	return out
}

// LookedFor names the functions and settings that a release wants to know of.
func LookedFor(of *kit.Release) (functions, settings []string) {
	w := Wishes(of.Needs.PHP)
	return w.functions(), w.settings()
}

// phpNeeds compares what is needed, and what is recommended, one need for each
// thing.
func phpNeeds(wanted *kit.PHP, have hosting.Runtime) []Need {
	out := wishNeeds(wanted.Wish(), have, false)
	if wanted.Recommended != nil {
		out = append(out, wishNeeds(*wanted.Recommended, have, true)...)
	}
	return out
}

const settingNeed = "PHP setting "

func wishNeeds(wanted kit.PHPWish, have hosting.Runtime, recommended bool) []Need {
	var out []Need
	add := func(what, wants, has string, ok bool, remedy string) {
		out = append(out, Need{what, wants, has, ok, recommended, remedy})
	}
	if wanted.Version != "" {
		constraint, err := semver.NewConstraint(wanted.Version)
		version, errHave := semver.NewVersion(plainVersion(have.Version))
		add("PHP", wanted.Version, have.Version, err != nil || errHave != nil || constraint.Check(version),
			"Ask the host to switch this account to PHP "+wanted.Version+".")
	}
	for _, e := range wanted.Extensions {
		ok := slices.ContainsFunc(have.Extensions, func(h string) bool { return strings.EqualFold(h, e) })
		add("PHP extension "+e, e, thereOr(ok), ok, "Ask the host to switch on the PHP extension "+e+".")
	}
	for _, f := range wanted.Functions {
		add("PHP function "+f, f, thereOr(have.Functions[f]), have.Functions[f], "Ask the host to allow the PHP function "+f+
			" (disable_functions).")
	}
	for _, name := range slices.Sorted(maps.Keys(wanted.Settings)) {
		least, is := wanted.Settings[name], have.Settings[name]
		add(settingNeed+name, least, cmp.Or(is, "nothing"), kit.EnoughPHP(is, least),
			"Ask the host to set "+name+" to "+least+" or more.")
	}
	return out
}

// plainVersion leaves out what a distribution adds: 8.2.29-1~deb12 is 8.2.29.
func plainVersion(v string) string {
	if i := strings.IndexFunc(v, func(r rune) bool { return r != '.' && (r < '0' || r > '9') }); i >= 0 {
		return v[:i]
	}
	return v
}

func thereOr(ok bool) string {
	if ok {
		return "there"
	}
	return "none"
}
