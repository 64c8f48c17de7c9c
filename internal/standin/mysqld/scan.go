package mysqld

import (
	"encoding/hex"
	"strings"
)

// token is a word, name, string, number or sign of a statement.
type token struct {
	kind byte // w word, n name in backquotes, s string, o other
	text string
}

func (t token) is(sign string) bool {
	return (t.kind == 'w' || t.kind == 'o') && strings.EqualFold(t.text, sign)
}

func (t token) any(signs ...string) bool {
	for _, s := range signs {
		if t.is(s) {
			return true
		}
	}
	return false
}

// name gives what a name or string stands for, without its quotes.
func (t token) name() string { return t.text }

// sql writes the token for SQLite.
func (t token) sql() string {
	switch t.kind {
	case 'n':
		return `"` + strings.ReplaceAll(t.text, `"`, `""`) + `"`
	case 's':
		if strings.ContainsRune(t.text, 0) {
			return "CAST(X'" + hex.EncodeToString([]byte(t.text)) + "' AS TEXT)"
		}
		return "'" + strings.ReplaceAll(t.text, "'", "''") + "'"
	}
	return t.text
}

func begins(t []token, words ...string) bool {
	if len(t) < len(words) {
		return false
	}
	for i, w := range words {
		if !t[i].is(w) {
			return false
		}
	}
	return true
}

func join(t []token) string {
	parts := make([]string, len(t))
	for i := range t {
		parts[i] = t[i].sql()
	}
	return strings.Join(parts, " ")
}

func word(b byte) bool {
	return b == '_' || b == '$' || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b > 127
}

// scan cuts a statement into tokens; comments fall away.
func scan(s string) ([]token, error) {
	var out []token
	for i := 0; i < len(s); {
		b := s[i]
		switch {
		case b == ' ' || b == '\t' || b == '\n' || b == '\r':
			i++
		case b == '#' || strings.HasPrefix(s[i:], "-- ") || strings.HasPrefix(s[i:], "--\n"):
			end := strings.IndexByte(s[i:], '\n')
			if end < 0 {
				return out, nil
			}
			i += end
		case strings.HasPrefix(s[i:], "/*"):
			end := strings.Index(s[i+2:], "*/")
			if end < 0 {
				return nil, refuse(1064, "42000", "a comment without an end")
			}
			i += end + 4
		case b == '\'' || b == '"' || b == '`':
			text, n, ok := quoted(s[i:])
			if !ok {
				return nil, refuse(1064, "42000", "a string without an end")
			}
			kind := byte('s')
			if b == '`' {
				kind = 'n'
			}
			out = append(out, token{kind, text})
			i += n
		case word(b) || b == '@' && i+1 < len(s) && s[i+1] == '@':
			start := i
			for i < len(s) && (word(s[i]) || s[i] == '@' && i < start+2 || s[i] == '.' && s[start] >= '0' && s[start] <= '9') {
				i++
			}
			out = append(out, token{'w', s[start:i]})
		default:
			n := 1
			for _, sign := range []string{"<=", ">=", "<>", "!=", "||", "&&"} {
				if strings.HasPrefix(s[i:], sign) {
					n = 2
				}
			}
			out = append(out, token{'o', s[i : i+n]})
			i += n
		}
	}
	return out, nil
}

// escapes are the backslash escapes of strings (MariaDB manual, "String Literals").
var escapes = map[byte]string{'0': "\x00", 'b': "\b", 'n': "\n", 'r': "\r", 't': "\t", 'Z': "\x1a", '%': `\%`,
	'_': `\_`}

// quoted reads a string or name in quotes and says how long it is.
func quoted(s string) (text string, n int, ok bool) {
	quote := s[0]
	var out strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '\\' && quote != '`' && i+1 < len(s):
			i++
			if e, special := escapes[s[i]]; special {
				out.WriteString(e)
			} else {
				out.WriteByte(s[i])
			}
		case s[i] == quote && i+1 < len(s) && s[i+1] == quote:
			out.WriteByte(quote)
			i++
		case s[i] == quote:
			return out.String(), i + 1, true
		default:
			out.WriteByte(s[i])
		}
	}
	return "", 0, false
}
