package kit

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// UserINI is the file in which PHP under FastCGI looks for the settings of a folder
// (PHP manual, ".user.ini files").
const UserINI = ".user.ini"

var (
	settingName  = regexp.MustCompile(`^[a-z][a-z0-9_.]*$`)
	settingValue = regexp.MustCompile(`^[A-Za-z0-9_.+-]+$`)
)

func (c *checker) phpSettings() {
	for name, value := range c.PHPSettings {
		if !settingName.MatchString(name) || !settingValue.MatchString(value) {
			c.wrong("php-settings."+name, fmt.Sprintf("%q = %q is no setting of PHP", name, value),
				"Write it as memory_limit: 256M.")
		}
	}
}

// WithSettings gives a .user.ini in which PHP has at least what the kit says. What
// its owner set higher stays, and so does everything else.
func (k *Kit) WithSettings(text string) string {
	for _, name := range slices.Sorted(maps.Keys(k.PHPSettings)) {
		value := k.PHPSettings[name]
		line := regexp.MustCompile(`(?im)^[ \t]*` + regexp.QuoteMeta(name) + `[ \t]*=[ \t]*([^;\r\n]*)`)
		all := line.FindAllStringSubmatchIndex(text, -1)
		if len(all) == 0 {
			if text != "" && !strings.HasSuffix(text, "\n") {
				text += "\n"
			}
			text += name + " = " + value + "\n"
			continue
		}
		last := all[len(all)-1] // the one that holds
		if has := strings.Trim(strings.TrimSpace(text[last[2]:last[3]]), `"'`); !EnoughPHP(has, value) {
			text = text[:last[2]] + value + text[last[3]:]
		}
	}
	return text
}

// EnoughPHP compares two settings of php.ini: sizes with K, M or G (PHP manual,
// "Shorthand byte values"), where -1 and 0 stand for no limit; else as texts.
func EnoughPHP(have, least string) bool {
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
