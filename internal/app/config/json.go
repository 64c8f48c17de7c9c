package config

import "strings"

// jsonFormat writes JSON strings (RFC 8259).
type jsonFormat struct{}

// Quote ends no comment: apps keep JSON in one of PHP, so that nobody reads it.
func (jsonFormat) Quote(v string) (string, error) {
	quoted, err := quoteJSON(v)
	return strings.ReplaceAll(quoted, "*/", `*\/`), err
}

func (jsonFormat) Bare(v string) string { return v }

// Open allows values outside of strings.
func (jsonFormat) Open(template string, places []Span) map[int]string {
	closed := map[int]string{}
	inString, at := false, 0
	for _, p := range places {
		for ; at < p.From; at++ {
			switch {
			case inString && template[at] == '\\':
				at++
			case template[at] == '"':
				inString = !inString
			}
		}
		if inString {
			closed[p.From] = "a value inside quotes of the template would be quoted twice; take the quotes away"
		}
		at = p.To
	}
	return closed
}
