package config

import (
	"errors"
	"strings"
	"unicode"
)

// text is a file with a value on a line, which its reader takes as it is: nothing is
// quoted, so that what a line cannot hold is refused.
type text struct{}

func (text) Quote(v string) (string, error) {
	if strings.IndexFunc(v, unicode.IsControl) >= 0 {
		return "", errors.New("a line of plain text cannot hold a line break")
	}
	if v != strings.TrimSpace(v) {
		return "", errors.New("a line of plain text cannot hold spaces at its ends")
	}
	return v, nil
}

func (text) Bare(v string) string { return v }

// Open allows a value wherever it ends its line: whatever it holds, no other value
// follows that it could be taken for.
func (text) Open(template string, places []Span) map[int]string {
	closed := map[int]string{}
	for _, p := range places {
		if p.To < len(template) && template[p.To] != '\n' && template[p.To] != '\r' {
			closed[p.From] = "in plain text a value ends its line; put what follows on another"
		}
	}
	return closed
}
