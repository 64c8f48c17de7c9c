package config

import (
	"fmt"
	"slices"
	"strings"

	"tivset/internal/app/fill"
)

// Carry brings a configuration file to new values: the lines that hold one that
// changes are written anew, and all others stay as they are now, whoever wrote
// them. A line that somebody changed beyond finding is an error that names it.
func Carry(f Format, template, current string, before, after fill.Values) (string, error) {
	for line := range strings.Lines(template) {
		parts := fill.Parse(line)
		if !slices.ContainsFunc(parts, func(p fill.Part) bool {
			return p.Name != "" && p.Name != "now" && before[p.Name] != after[p.Name]
		}) {
			continue
		}
		was, err := Render(f, line, before)
		if err != nil {
			return "", err
		}
		becomes, err := Render(f, line, after)
		if err != nil {
			return "", err
		}
		from, to, found := lineOf(current, string(was), parts[0])
		if !found {
			return "", fmt.Errorf("the line “%s” was changed by hand, so that it cannot be told which one is to get the new "+
				"value", strings.TrimSpace(line))
		}
		current = current[:from] + strings.TrimRight(string(becomes), "\r\n") + current[to:]
	}
	return current, nil
}

// lineOf finds a line as it was written; else the only one that begins as the
// template's does.
func lineOf(text, was string, first fill.Part) (from, to int, found bool) {
	was = strings.TrimRight(was, "\r\n")
	if from, to, found = only(text, was, func(rest string) bool {
		return rest == "" || rest[0] == '\n' || rest[0] == '\r'
	}); found {
		return from, to, true
	}
	begin := first.Text
	if first.Name != "" || strings.TrimSpace(begin) == "" || strings.Contains(was, "\n") {
		return 0, 0, false
	}
	from, _, found = only(text, begin, func(string) bool { return true })
	if !found {
		return 0, 0, false
	}
	to = len(text)
	if i := strings.IndexAny(text[from:], "\r\n"); i >= 0 {
		to = from + i
	}
	return from, to, true
}

// only finds what stands at the beginning of a line just once.
func only(text, what string, ends func(rest string) bool) (from, to int, found bool) {
	for at := 0; ; {
		i := strings.Index(text[at:], what)
		if i < 0 {
			return from, to, found
		}
		at += i
		if (at == 0 || text[at-1] == '\n') && ends(text[at+len(what):]) {
			if found {
				return 0, 0, false
			}
			from, to, found = at, at+len(what), true
		}
		at++
	}
}
