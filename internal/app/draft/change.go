package draft

import (
	"crypto/sha256"
	"fmt"
	"io"
	"slices"
)

// Differences says what an author has to look at when one release follows another: what
// it needs, its tables, the samples of its configuration, its set-up; a line each.
func Differences(before, now *App) []string {
	var out []string
	a, b := before.Needs(), now.Needs()
	if a.PHP != b.PHP {
		out = append(out, fmt.Sprintf("PHP: %s before, %s now", orElse(a.PHP, "nothing said"), orElse(b.PHP, "nothing said")))
	}
	out = append(out, lists("extensions of PHP", a.Extensions, b.Extensions)...)
	out = append(out, lists("databases", a.Engines, b.Engines)...)
	out = append(out, compared("tables", before, now, sqlFile)...)
	out = append(out, compared("configuration", before, now, anyConfig)...)
	return append(out, compared("set-up", before, now, setUpName)...)
}

// anyConfig fits samples of configuration files.
var anyConfig = lazily(
	`(?i)(^|/)(\.env[^/]*|[^/]*(config|conf|settings?|parameters)[^/]*[-._](sample|example|dist|defaults?)[^/]*|` +
		`(sample|example|default)[-._][^/]*(config|settings?)[^/]*)$`,
)

func lists(what string, before, now []string) (out []string) {
	for _, x := range now {
		if !slices.Contains(before, x) {
			out = append(out, what+": "+x+" is new")
		}
	}
	for _, x := range before {
		if !slices.Contains(now, x) {
			out = append(out, what+": "+x+" is not used any more")
		}
	}
	return out
}

func compared(what string, before, now *App, fits *pattern) (out []string) {
	for _, name := range now.own(fits) {
		switch {
		case !before.has(name):
			out = append(out, what+": "+name+" is new")
		case before.sum(name) != now.sum(name):
			out = append(out, what+": "+name+" is changed")
		}
	}
	for _, name := range before.own(fits) {
		if !now.has(name) {
			out = append(out, what+": "+name+" is gone")
		}
	}
	slices.Sort(out)
	return out
}

func (a *App) sum(name string) string {
	file, err := a.files.Open(name)
	if err != nil {
		return ""
	}
	defer file.Close()
	hash := sha256.New()
	if _, err := io.Copy(hash, file); err != nil {
		return ""
	}
	return string(hash.Sum(nil))
}
