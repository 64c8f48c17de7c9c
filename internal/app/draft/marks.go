package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
)

// Mark is where an app says which release it is.
type Mark struct {
	File, Pattern, Release string
}

const number = `[0-9]+\.[0-9][0-9A-Za-z.+~-]*`

// marks are the forms in which PHP and data files name a version; group 1 is the name, 2
// the version.
var marks = []*pattern{
	lazily(`define\(\s*['"](\w*VERSION\w*)['"]\s*,\s*['"](` + number + `)['"]`),
	lazily(`(?i)const\s+(\w*VERSION\w*)\s*=\s*['"](` + number + `)['"]`),
	lazily(`(?i)\$([\w>-]*version\w*)\s*=\s*['"](` + number + `)['"]`),
	lazily(`(?i)['"](\w*version\w*)['"]\s*(?:=>|:)\s*['"](` + number + `)['"]`),
	lazily(`(?i)return\s+['"]()(` + number + `)['"]\s*;`),
	lazily(`/\*\s*(?i:version|release)?()\s*(` + number + `)\s*\*/`),
}

var (
	plainMark  = lazily(`\A\s*v?(` + number + `)\s*\z`)
	markFile   = lazily(`(?i)(version|release)[^/]*$`)
	mayBeMark  = lazily(`(?i)(\.(php\d?|inc|json|txt|ini)|(^|/)VERSION)$`)
	notItsMark = lazily(`(?i)php_?version|min|require|schema|db_?version|database|api|jquery|compat`)
)

// Marks finds where the app says which release it is, the likeliest first; wanted is the
// release that it is by its archive's name, or empty.
func (a *App) Marks(wanted string) []Mark {
	type rated struct {
		Mark
		rate int
	}
	var found []rated
	for _, name := range a.own(mayBeMark) {
		depth := strings.Count(name, "/")
		if depth > 4 {
			continue
		}
		text := a.text(name)
		rate := -2 * depth
		if markFile.MatchString(name) {
			rate += 6
		}
		if m := plainMark.FindStringSubmatch(text); m != nil && markFile.MatchString(name) {
			found = append(found, rated{Mark{name, `^\s*v?(` + like(m[1], wanted) + `)`, m[1]}, rate + 6 + fits(m[1], wanted)})
			continue
		}
		for i, form := range marks {
			m := form.FindStringSubmatchIndex(text)
			if m == nil || i >= 4 && !markFile.MatchString(name) || notItsMark.MatchString(text[m[2]:m[3]]) {
				continue
			}
			release := text[m[4]:m[5]]
			if path.Base(name) == "composer.json" || path.Base(name) == "package.json" {
				rate--
			}
			pattern := regexp.QuoteMeta(text[m[0]:m[4]]) + "(" + like(release, wanted) + ")"
			found = append(found, rated{Mark{name, pattern, release}, rate - i + fits(release, wanted)})
		}
	}
	slices.SortStableFunc(found, func(x, y rated) int { return y.rate - x.rate })
	var out []Mark
	for _, f := range found {
		f.Release = lazily(like(f.Release, wanted)).FindString(f.Release)
		out = append(out, f.Mark)
	}
	return out
}

var plainNumber = lazily(`^[0-9.]+$`)

// like is a pattern of numbers of the form that a release has.
func like(release, wanted string) string {
	if plainNumber.MatchString(orElse(wanted, release)) {
		return `[0-9]+(?:\.[0-9]+)*`
	}
	return `[0-9][0-9A-Za-z.+~-]*`
}

// fits rates a version against the one that is wanted.
func fits(release, wanted string) int {
	switch {
	case wanted == "":
		return 0
	case release == wanted:
		return 20
	case strings.HasPrefix(release, wanted) && !strings.ContainsAny(release[len(wanted):][:1], "0123456789."):
		return 15
	}
	return -10
}

var inName = lazily(`[-_v]v?(` + number + `?)(?:\.tar|\.tgz|\.zip|\.t[bx]z|-(?:src|full|dist|all)|$)`)

// ReleaseOf reads a release off an archive's or a folder's name; empty where there is none.
func ReleaseOf(name string) string {
	m := inName.FindStringSubmatch(path.Base(name))
	if m == nil {
		return ""
	}
	return strings.TrimSuffix(m[1], ".")
}

// licences knows licences by what their texts begin with.
var licences = []struct {
	name string
	text *pattern
}{
	{"AGPL-3.0", lazily(`(?i)GNU AFFERO GENERAL PUBLIC LICENSE\s+Version 3`)},
	{"LGPL-3.0", lazily(`(?i)GNU LESSER GENERAL PUBLIC LICENSE\s+Version 3`)},
	{"GPL-3.0", lazily(`(?i)GNU GENERAL PUBLIC LICENSE\s+Version 3`)},
	{"GPL-2.0", lazily(`(?i)GNU GENERAL PUBLIC LICENSE\s+Version 2`)},
	{"Apache-2.0", lazily(`(?i)Apache License\s+Version 2`)},
	{"MPL-2.0", lazily(`(?i)Mozilla Public License,? Version 2`)},
	{"MIT", lazily(`(?i)Permission is hereby granted, free of charge`)},
	{"BSD", lazily(`(?i)Redistribution and use in source and binary forms`)},
	{"Zlib", lazily(`(?i)This software is provided 'as-is', without any express or implied warranty`)},
	{"ISC", lazily(`(?i)Permission to use, copy, modify, and/or distribute this software`)},
}

var (
	licenceFile  = lazily(`(?i)(^|/)(LICEN[CS]E|COPYING)(\.\w+)?$`)
	licenceField = lazily(`"licen[cs]e"\s*:\s*"([^"]+)"`)
	describes    = lazily(`"description"\s*:\s*"([^"]+)"`)
)

// Licence names the app's licence and the file with its text, each empty when it is not
// found.
func (a *App) Licence() (name, file string) {
	for _, f := range a.own(licenceFile) {
		if text := a.text(f); text != "" {
			file = f
			for _, l := range licences {
				if l.text.MatchString(text) {
					return l.name, f
				}
			}
			break
		}
	}
	if m := licenceField.FindStringSubmatch(a.text("composer.json")); m != nil {
		name = m[1]
	}
	return name, file
}

// Summary is what the app says of itself in one line, or empty.
func (a *App) Summary() string {
	for _, name := range []string{"composer.json", "package.json"} {
		if m := describes.FindStringSubmatch(a.text(name)); m != nil {
			return m[1]
		}
	}
	return ""
}

// Recognised is the release that an app is by a mark: a file, and a pattern whose first
// group is the release.
func (a *App) Recognised(file, pattern string) (string, error) {
	text, err := readAll(a.files, path.Clean(file))
	if err != nil {
		return "", fmt.Errorf("the archive has no %s", file)
	}
	m := lazily(pattern).FindStringSubmatch(text)
	if m == nil {
		return "", fmt.Errorf("nothing in %s fits the pattern", file)
	}
	return m[1], nil
}
