package pages

import (
	"fmt"
	"strings"
)

// ReadINI reads an INI file as PHP's parse_ini_file does in its normal mode,
// with sections: keys are section.key. Values in double quotes may hold line
// breaks and the escapes \\, \" and \$; values without quotes end at the line
// or a semicolon. What PHP would replace in a value (${…}, constants) is an
// error.
func ReadINI(text string) (map[string]string, error) {
	out := map[string]string{}
	section := ""
	for s := text; s != ""; {
		line, rest, _ := strings.Cut(s, "\n")
		trimmed := strings.TrimSpace(line)
		switch {
		case trimmed == "" || trimmed[0] == ';':
			s = rest
			continue
		case trimmed[0] == '[':
			name, ok := strings.CutSuffix(trimmed[1:], "]")
			if !ok {
				return nil, fmt.Errorf("a section without ]: %s", trimmed)
			}
			section, s = name+".", rest
			continue
		}
		key, _, ok := strings.Cut(line, "=")
		if !ok {
			return nil, fmt.Errorf("a line without =: %s", trimmed)
		}
		value, after, err := iniValue(s[len(key)+1:])
		if err != nil {
			return nil, fmt.Errorf("%s: %w", strings.TrimSpace(key), err)
		}
		out[section+strings.TrimSpace(key)] = value
		s = after
	}
	return out, nil
}

func iniValue(s string) (value, rest string, err error) {
	s = strings.TrimLeft(s, " \t")
	if s == "" || s[0] != '"' && s[0] != '\'' {
		line, rest, _ := strings.Cut(s, "\n")
		line, _, _ = strings.Cut(line, ";")
		if strings.ContainsAny(line, `${}|&~!()^"`) {
			return "", "", fmt.Errorf("%q means something else without quotes", strings.TrimSpace(line))
		}
		return strings.TrimSpace(line), rest, nil
	}
	var out strings.Builder
	for {
		piece, after, err := iniPiece(s)
		if err != nil {
			return "", "", err
		}
		out.WriteString(piece)
		if after == "" || after[0] != '"' && after[0] != '\'' {
			_, rest, _ := strings.Cut(after, "\n")
			return out.String(), rest, nil
		}
		s = after
	}
}

// iniPiece reads one string in quotes; several in a row are one value. A double
// quote right before a line break closes, even behind a backslash.
func iniPiece(s string) (value, after string, err error) {
	if s[0] == '\'' {
		value, after, found := strings.Cut(s[1:], "'")
		if !found {
			return "", "", fmt.Errorf("the value has no closing quote")
		}
		return value, after, nil
	}
	var out strings.Builder
	for i := 1; i < len(s); i++ {
		next := byte('\n')
		if i+1 < len(s) {
			next = s[i+1]
		}
		switch {
		case s[i] == '\\' && next == '"' && i+2 < len(s) && (s[i+2] == '\n' || s[i+2] == '\r'):
			out.WriteByte('\\') // and the quote closes
		case s[i] == '\\' && strings.IndexByte(`\"$`, next) >= 0:
			i++
			out.WriteByte(next)
		case s[i] == '$' && next == '{':
			return "", "", fmt.Errorf("${…} would be replaced")
		case s[i] == '"':
			return out.String(), s[i+1:], nil
		default:
			out.WriteByte(s[i])
		}
	}
	return "", "", fmt.Errorf("the value has no closing quote")
}
