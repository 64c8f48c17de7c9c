package database

import (
	"fmt"
	"strings"
)

// Positional rewrites a statement with :names into one with the marks that
// mark writes for the first, second … value, and gives the values in that
// order. Colons in strings, in quoted names and in :: are left alone; a :name
// without a value is an error.
func Positional(statement string, syntax Syntax, values map[string]string, mark func(n int) string) (string, []any,
	error) {
	var out strings.Builder
	var args []any
	var in byte // the quote we are inside of, or 0
	for i := 0; i < len(statement); i++ {
		b := statement[i]
		switch {
		case in != 0:
			if b == '\\' && in != '`' && syntax.Backslash && i+1 < len(statement) {
				out.WriteByte(b)
				i++
				b = statement[i]
			} else if b == in {
				in = 0
			}
		case b == '\'' || b == '"' || b == '`':
			in = b
		case b == '?':
			return "", nil, fmt.Errorf("write values as :names, not as question marks: %s", statement)
		case b == ':' && i+1 < len(statement) && statement[i+1] == ':': // a cast
			out.WriteByte(b)
			i++
		case b == ':' && i+1 < len(statement) && lowerByte(statement[i+1]):
			end := i + 1
			for end < len(statement) && (lowerByte(statement[end]) || statement[end] == '_' || statement[end] == '-') {
				end++
			}
			value, ok := values[statement[i+1:end]]
			if !ok {
				return "", nil, fmt.Errorf("no value is given for :%s", statement[i+1:end])
			}
			args = append(args, value)
			out.WriteString(mark(len(args)))
			i = end - 1
			continue
		}
		out.WriteByte(b)
	}
	return out.String(), args, nil
}

// Question is the mark of most engines.
func Question(int) string { return "?" }

func lowerByte(b byte) bool { return b >= 'a' && b <= 'z' }
