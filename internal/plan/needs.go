package plan

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/Masterminds/semver/v3"
	"github.com/dustin/go-humanize"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/courier"
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
	if needs, err = runtimeNeeds(ctx, in, s.Of.Needs.PHP); err != nil {
		return nil, nil, err
	}
	if free, told := in.Free(ctx); told { // an account that does not tell is asked nothing
		needs = append(needs, spaceNeed(max(bytes, s.Of.Disk()), free))
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

// runtimeNeeds asks the account's PHP, where the account says which it is and
// its reach can run programs; else the install asks the one that serves the
// site, before it makes anything.
func runtimeNeeds(ctx context.Context, in *hosting.Account, wanted *kit.PHP) ([]Need, error) {
	if wanted == nil {
		return nil, nil
	}
	if !in.HasPHP() {
		return []Need{{What: "PHP", Wanted: wanted.Version, Have: "looked at when the install begins", OK: true}}, nil
	}
	have, err := in.AskPHP(ctx, Wishes(wanted).functions(), Wishes(wanted).settings())
	if err != nil {
		return nil, fault.New(fault.Failed, "the account's PHP cannot be asked", in.Runtime.PHP,
			"Correct runtime: php: in the account: "+fault.Call("account", "test", in.Name)).Because(err)
	}
	return phpNeeds(wanted, have), nil
}

// FitPHP compares what a site's release needs with the PHP that serves the site,
// as a courier found it; bytes is how large the site's files are.
func FitPHP(s *site.Site, bytes int64, found courier.Found) (warnings []string, err error) {
	wanted := s.Of.Needs.PHP
	if wanted == nil {
		return nil, nil
	}
	have := hosting.Runtime{Version: found.Version, Extensions: found.Extensions, Functions: found.Functions,
		Settings: found.Settings}
	needs := phpNeeds(wanted, have)
	if found.Free >= 0 {
		needs = append(needs, spaceNeed(max(bytes, s.Of.Disk()), found.Free))
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
		add("PHP setting "+name, least, cmp.Or(is, "nothing"), enough(is, least), "Ask the host to set "+name+" to "+least+
			" or more.")
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

// enough compares two settings of php.ini: sizes with K, M or G (PHP manual,
// "Shorthand byte values"), where -1 and 0 stand for no limit; else as texts.
func enough(have, least string) bool {
	a, okA := shorthand(have)
	b, okB := shorthand(least)
	if okA && okB {
		return a >= b || a <= 0
	}
	return strings.EqualFold(have, least)
}

func shorthand(s string) (int64, bool) {
	if s == "" {
		return 0, false
	}
	unit := map[byte]int64{'k': 1 << 10, 'm': 1 << 20, 'g': 1 << 30}[strings.ToLower(s)[len(s)-1]]
	if unit == 0 {
		unit = 1
	} else {
		s = s[:len(s)-1]
	}
	n, err := strconv.ParseInt(strings.TrimSpace(s), 10, 64)
	return n * unit, err == nil
}
