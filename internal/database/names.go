package database

import (
	"fmt"
	"strings"
)

// Positional rewrites a statement with :names into one with question marks,
// and gives the values in the order in which they are wanted. Colons in
// strings, in names in backquotes and in comments are left alone; a :name
// without a value is an error.
func Positional(statement string, values map[string]string) (string, []any, error) {
	var out strings.Builder
	var args []any
	var in byte // the quote we are inside of, or 0
	for i := 0; i < len(statement); i++ {
		b := statement[i]
		switch {
		case in != 0:
			if b == '\\' && in != '`' && i+1 < len(statement) {
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
			out.WriteByte('?')
			i = end - 1
			continue
		}
		out.WriteByte(b)
	}
	return out.String(), args, nil
}

func lowerByte(b byte) bool { return b >= 'a' && b <= 'z' }
