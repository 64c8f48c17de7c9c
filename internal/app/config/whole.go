package config

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"unicode/utf8"
)

// Formats in which a value is all that stands on a line after its key.

// whole reports the places that are not all that stands after the key.
func whole(key *regexp.Regexp, template string, places []Span, why string) map[int]string {
	closed := map[int]string{}
	for _, p := range places {
		before := template[strings.LastIndexByte(template[:p.From], '\n')+1 : p.From]
		after, _, _ := strings.Cut(template[p.To:], "\n")
		if !key.MatchString(before) || strings.TrimSpace(after) != "" {
			closed[p.From] = why
		}
	}
	return closed
}

// yaml writes double-quoted scalars (YAML 1.2, 7.3.1), whose escapes are those
// of JSON.
type yaml struct{}

// Quote escapes what YAML does not let stand as it is (5.1) as well.
func (yaml) Quote(v string) (string, error) {
	quoted, err := quoteJSON(v)
	var out strings.Builder
	for _, r := range quoted {
		if r >= 0x7f && r < 0xa0 || r == 0xfeff || r == 0xfffe || r == 0xffff {
			fmt.Fprintf(&out, `\u%04X`, r)
			continue
		}
		out.WriteRune(r)
	}
	return out.String(), err
}

func (yaml) Bare(v string) string { return v }

var yamlKey = regexp.MustCompile(`^\s*(- )*([^#'"{\[]*: +|- *)$`)

func (yaml) Open(template string, places []Span) map[int]string {
	return whole(yamlKey, template, places, "a value in YAML must be all that stands after its key, without quotes")
}

// toml writes basic strings (TOML 1.0, "String").
type toml struct{}

func (toml) Quote(v string) (string, error) {
	quoted, err := quoteJSON(v)
	// U+007F may not stand in a TOML string as it is.
	return strings.ReplaceAll(quoted, "\x7f", `\u007F`), err
}

func (toml) Bare(v string) string { return v }

var tomlKey = regexp.MustCompile(`^\s*[A-Za-z0-9_."'-]+\s*=\s*$`)

func (toml) Open(template string, places []Span) map[int]string {
	return whole(tomlKey, template, places,
		"a value in TOML must be all that stands after the equals sign, without quotes")
}

// dotenv writes values for .env files. No standard says how they are quoted,
// and the usual readers differ; so values are written only in ways on which
// they agree: in single quotes, where every character stands for itself, or
// where that cannot be in double quotes without a backslash of the value's own.
type dotenv struct{}

var dotenvEscapes = strings.NewReplacer(`"`, `\"`, `$`, `\$`, "\n", `\n`, "\r", `\r`)

func (dotenv) Quote(v string) (string, error) {
	switch {
	case strings.ContainsRune(v, 0):
		return "", fmt.Errorf("a .env file cannot hold a zero byte")
	case !strings.ContainsAny(v, "'\r\n") && !strings.HasSuffix(v, `\`):
		return "'" + v + "'", nil
	case strings.Contains(v, `\`) || strings.HasPrefix(v, `"`) || strings.HasSuffix(v, `"`):
		return "", fmt.Errorf("readers of .env files do not agree on a value with these quotes, line breaks and backslashes")
	}
	return `"` + dotenvEscapes.Replace(v) + `"`, nil
}

func (dotenv) Bare(v string) string { return v }

var dotenvKey = regexp.MustCompile(`^(export )?[A-Za-z_][A-Za-z0-9_]*=$`)

func (dotenv) Open(template string, places []Span) map[int]string {
	return whole(dotenvKey, template, places,
		"a value in a .env file must be all that stands after the equals sign, without quotes")
}

// quoteJSON writes a string in double quotes with the escapes of JSON (RFC 8259).
func quoteJSON(v string) (string, error) {
	if !utf8.ValidString(v) {
		return "", fmt.Errorf("it is not text in UTF-8")
	}
	var out strings.Builder
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return "", err
	}
	return strings.TrimSuffix(out.String(), "\n"), nil
}
