package pages

import (
	"fmt"
	"regexp"
	"strings"
)

var (
	phpDefine = regexp.MustCompile(`^define\s*\(\s*'([A-Za-z_][A-Za-z0-9_]*)'\s*,\s*`)
	phpSet    = regexp.MustCompile(`^\$([A-Za-z_][A-Za-z0-9_]*)((?:\['[A-Za-z0-9_]+'\])*)\s*=\s*`)
	phpBare   = regexp.MustCompile(`^(?i:true|false|null|-?[0-9]+)`)
)

// ReadPHP reads a PHP file that only sets constants and variables to strings
// in quotes, numbers and truth values, as the configuration files of many apps
// do. Constants have their own name, array elements name.key. Anything else is
// an error that names it.
func ReadPHP(text string) (map[string]string, error) {
	s, ok := strings.CutPrefix(text, "<?php")
	if !ok {
		return nil, fmt.Errorf("the file does not begin with <?php")
	}
	out := map[string]string{}
	for {
		if s = skipPHP(s); s == "" || s == "?>" {
			return out, nil
		}
		var name string
		closing := ""
		if m := phpDefine.FindStringSubmatch(s); m != nil {
			name, closing, s = m[1], ")", s[len(m[0]):]
		} else if m := phpSet.FindStringSubmatch(s); m != nil {
			name, s = m[1]+strings.NewReplacer("['", ".", "']", "").Replace(m[2]), s[len(m[0]):]
		} else {
			first, _, _ := strings.Cut(s, "\n")
			return nil, fmt.Errorf("not a constant or variable that is set: %s", first)
		}
		value, rest, err := phpValue(s)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out[name] = value
		for _, sign := range []string{closing, ";"} {
			rest, ok = strings.CutPrefix(strings.TrimLeft(rest, " \t\r\n"), sign)
			if !ok {
				return nil, fmt.Errorf("%s: %q is missing", name, sign)
			}
		}
		s = rest
	}
}

// skipPHP passes over white space and comments.
func skipPHP(s string) string {
	for {
		s = strings.TrimLeft(s, " \t\r\n")
		switch {
		case strings.HasPrefix(s, "//"), strings.HasPrefix(s, "#"):
			_, s, _ = strings.Cut(s, "\n")
		case strings.HasPrefix(s, "/*"):
			_, s, _ = strings.Cut(s[2:], "*/")
		default:
			return s
		}
	}
}

func phpValue(s string) (value, rest string, err error) {
	if m := phpBare.FindString(s); m != "" {
		return strings.ToLower(m), s[len(m):], nil
	}
	if !strings.HasPrefix(s, "'") {
		return "", s, fmt.Errorf("the value is not in single quotes")
	}
	var out strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '\\' && i+1 < len(s) && (s[i+1] == '\\' || s[i+1] == '\''):
			i++
			out.WriteByte(s[i])
		case s[i] == '\'':
			return out.String(), s[i+1:], nil
		default:
			out.WriteByte(s[i])
		}
	}
	return "", "", fmt.Errorf("the value has no closing quote")
}
