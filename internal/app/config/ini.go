package config

import (
	"fmt"
	"regexp"
	"strings"
)

// ini writes values for PHP's parse_ini_file in its normal mode: double
// quotes, in which a backslash makes the quote, the backslash and the dollar
// sign ordinary characters. Line breaks may stand inside the quotes.
type ini struct{}

func (ini) Quote(v string) (string, error) {
	if strings.ContainsRune(v, 0) {
		return "", fmt.Errorf("an INI file cannot hold a zero byte")
	}
	var out strings.Builder
	last := 0
	for _, m := range quoteAtLineEnd.FindAllStringSubmatchIndex(v, -1) {
		out.WriteString(`"` + iniEscapes.Replace(v[last:m[2]]) + `"'` + v[m[2]:m[3]] + `'`)
		last = m[3]
	}
	out.WriteString(`"` + iniEscapes.Replace(v[last:]) + `"`)
	return out.String(), nil
}

var iniEscapes = strings.NewReplacer(`\`, `\\`, `"`, `\"`, `$`, `\$`)

// PHP takes a quote right before a line break for the closing one, even behind
// a backslash (a courtesy to paths such as "C:\"). Such a quote, with the
// backslashes before it, goes into single quotes; pieces in a row are one value.
var quoteAtLineEnd = regexp.MustCompile(`(\\*")[\r\n]`)

func (ini) Bare(v string) string { return v }

var iniKey = regexp.MustCompile(`^\s*[^;\[\s=][^=]*=\s*$`)

// Open allows a value only as the whole of what stands after an equals sign.
func (ini) Open(template string, places []Span) map[int]string {
	return whole(iniKey, template, places,
		"a value in an INI file must be all that stands after the equals sign, without quotes")
}
