package site

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/Masterminds/semver/v3"
	"github.com/dustin/go-humanize"

	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
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

// lookAtNeeds compares what the release needs of the runtime and of the space
// with what is there. What lacks stops the plan, all of it at once; what would
// only be better is a warning.
func (s *Service) lookAtNeeds(ctx context.Context, p *Plan, fsys files.FS) error {
	if err := p.needRuntime(ctx, fsys); err != nil {
		return err
	}
	p.needSpace(ctx, fsys)
	var problems []fault.Problem
	for _, n := range p.Needs {
		text := fmt.Sprintf("%s is needed, and there is %s", n.Wanted, n.Have)
		switch {
		case n.OK:
		case n.Recommended:
			p.Warnings = append(p.Warnings, n.warning())
		default:
			problems = append(problems, fault.Problem{ID: n.What, What: text, Remedy: n.Remedy})
		}
	}
	return lacks(p, problems)
}

func (n Need) warning() string {
	return fmt.Sprintf("%s: %s would be better, and there is %s. %s", n.What, n.Wanted, n.Have, n.Remedy)
}

// lacks is the fault of what the account does not have; nil for nothing.
func lacks(p *Plan, problems []fault.Problem) error {
	if len(problems) == 0 {
		return nil
	}
	what := p.Title + " " + p.Release + " needs what the account does not have"
	err := fault.Of(fault.Join(what, "Ask the host for it, or choose another release: tivset about "+p.App+". Nothing was touched.", problems))
	err.Kind = fault.Failed
	if len(problems) == 1 {
		err.What = fmt.Sprintf("%s: %s: %s", what, problems[0].ID, problems[0].What)
	}
	return err
}

// needSpace adds what the disk must hold, with a tenth to spare.
func (p *Plan) needSpace(ctx context.Context, fsys files.FS) {
	teller, ok := fsys.(files.SpaceTeller)
	if !ok {
		return
	}
	free, err := teller.Free(ctx)
	if err != nil {
		return // an account that does not tell is asked nothing
	}
	p.Needs = append(p.Needs, spaceNeed(max(p.survey.Bytes, p.release.Disk()), free))
}

func spaceNeed(need, free int64) Need {
	return Need{What: "space", Wanted: humanize.Bytes(uint64(need)), Have: humanize.Bytes(uint64(max(free, 0))), OK: free >= need+need/10, Remedy: "Make room in the account, or ask the host for more."}
}

// runtime is what a PHP interpreter tells of itself.
type runtime struct {
	Version    string            `json:"version"`
	Extensions []string          `json:"extensions"`
	Functions  map[string]bool   `json:"functions"`
	Settings   map[string]string `json:"settings"`
}

// needRuntime asks the account's PHP, where the account says which it is and
// its files can be reached with commands.
func (p *Plan) needRuntime(ctx context.Context, fsys files.FS) error {
	wanted := p.release.Needs.PHP
	if wanted == nil {
		return nil
	}
	php := p.account.Runtime.PHP
	commander, ok := fsys.(files.Commander)
	if php == "" || !ok { // the install asks the one that serves the site, before it makes anything
		p.Needs = append(p.Needs, Need{What: "PHP", Wanted: wanted.Version, Have: "looked at when the install begins", OK: true})
		return nil
	}
	have, err := askPHP(ctx, commander, php, wanted)
	if err != nil {
		return fault.New(fault.Failed, "the account's PHP cannot be asked", php, "Correct runtime: php: in the account: tivset account test "+p.Account).Because(err)
	}
	p.Needs = append(p.Needs, phpNeeds(wanted.Wish(), have, false)...)
	if wanted.Recommended != nil {
		p.Needs = append(p.Needs, phpNeeds(*wanted.Recommended, have, true)...)
	}
	return nil
}

// askPHP runs a script that names only what is asked for.
func askPHP(ctx context.Context, c files.Commander, php string, wanted *kit.PHP) (runtime, error) {
	var functions, settings []string
	for _, wish := range wishes(wanted) {
		functions, settings = append(functions, wish.Functions...), slices.AppendSeq(settings, maps.Keys(wish.Settings))
	}
	names, err := json.Marshal([][]string{append([]string{}, functions...), append([]string{}, settings...)})
	if err != nil {
		return runtime{}, err
	}
	script := "<?php [$f, $s] = json_decode('" + strings.NewReplacer(`\`, `\\`, "'", `\'`).Replace(string(names)) + `', true);
echo json_encode(['version' => PHP_VERSION, 'extensions' => get_loaded_extensions(),
  'functions' => (object) array_combine($f, array_map('function_exists', $f)),
  'settings' => (object) array_combine($s, array_map(fn($n) => (string) ini_get($n), $s))]);`
	out, err := c.Command(ctx, ".", []string{php}, script)
	if err != nil {
		return runtime{}, err
	}
	var r runtime
	return r, json.Unmarshal(out, &r)
}

// phpNeeds compares, one need for each thing.
func phpNeeds(wanted kit.PHPWish, have runtime, recommended bool) []Need {
	var out []Need
	add := func(what, wants, has string, ok bool, remedy string) {
		out = append(out, Need{what, wants, has, ok, recommended, remedy})
	}
	if wanted.Version != "" {
		constraint, err := semver.NewConstraint(wanted.Version)
		version, errHave := semver.NewVersion(plainVersion(have.Version))
		add("PHP", wanted.Version, have.Version, err != nil || errHave != nil || constraint.Check(version), "Ask the host to switch this account to PHP "+wanted.Version+".")
	}
	for _, e := range wanted.Extensions {
		ok := slices.ContainsFunc(have.Extensions, func(h string) bool { return strings.EqualFold(h, e) })
		add("PHP extension "+e, e, thereOr(ok), ok, "Ask the host to switch on the PHP extension "+e+".")
	}
	for _, f := range wanted.Functions {
		add("PHP function "+f, f, thereOr(have.Functions[f]), have.Functions[f], "Ask the host to allow the PHP function "+f+" (disable_functions).")
	}
	for _, name := range slices.Sorted(maps.Keys(wanted.Settings)) {
		least, is := wanted.Settings[name], have.Settings[name]
		add("PHP setting "+name, least, cmp.Or(is, "nothing"), enough(is, least), "Ask the host to set "+name+" to "+least+" or more.")
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
