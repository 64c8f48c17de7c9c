package config

import (
	"encoding/json"
	"html"
	"regexp"
	"strings"

	"tivset/internal/app/fill"
)

// Read reads the values back from a configuration file that was written after a
// template, also where its lines have other spaces or other quotes, or others
// stand between them. Values that cannot be found are left out.
func Read(format, template, current string) fill.Values {
	found := fill.Values{}
	rest := current
	for line := range strings.Lines(template) {
		parts := fill.Parse(strings.TrimSpace(line))
		if len(parts) < 2 || parts[0].Name != "" || parts[1].Name == "" {
			continue // a value without a key before it, or none
		}
		key := loose(parts[0].Text)
		at := key.FindStringIndex(rest)
		if at == nil {
			if at = key.FindStringIndex(current); at == nil {
				continue
			}
			rest = current
		}
		rest = rest[at[1]:]
		readLine(format, parts[1:], rest, found)
	}
	return found
}

// readLine reads the values of one line of the template, the first of which is where
// the text begins; behind it as far as the line goes on as the template has it.
func readLine(format string, parts []fill.Part, text string, found fill.Values) {
	for len(parts) > 0 {
		value, end, ok := literal(format, text)
		if !ok {
			return
		}
		p := parts[0]
		if len(p.Filters) == 0 || bare(p) {
			found[p.Name] = value
		} else if back, ok := fill.Back(p, value); ok {
			found[p.Name] = back
		}
		if len(parts) < 3 || parts[1].Name != "" || parts[2].Name == "" {
			return
		}
		between := loose(parts[1].Text).FindStringIndex(text[end:])
		if between == nil || between[0] != 0 {
			return
		}
		text, parts = text[end+between[1]:], parts[2:]
	}
}

var spaces = regexp.MustCompile(`\s+`)

// loose finds a key at the beginning of a line, whatever spaces are in it and
// whichever quotes it has.
func loose(key string) *regexp.Regexp {
	text := regexp.QuoteMeta(strings.TrimSpace(key))
	text = spaces.ReplaceAllString(text, `\s*`)
	text = regexp.MustCompile(`['"]`).ReplaceAllString(text, `['"]`)
	for _, sign := range []string{`\(`, `\[`, `\]`, `,`, `=`, `:`} {
		text = strings.ReplaceAll(text, sign, `\s*`+sign+`\s*`)
	}
	return regexp.MustCompile(`(?m)^[ \t]*` + text + `[ \t]*`)
}

var (
	bareEnds = map[string]string{"php": ",;)\n", "json": ",}]\n", "xml": "<", "ini": ";\n", "dotenv": "#\n", "toml": "#\n",
		"yaml": "#\n", "text": "\r\n"}
	phpPlain = strings.NewReplacer(`\\`, `\`, `\'`, `'`)
	phpTwice = strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\$`, `$`, `\n`, "\n", `\r`, "\r", `\t`, "\t")
	iniTwice = strings.NewReplacer(`\\`, `\`, `\"`, `"`, `\$`, `$`)
)

// literal reads the value at the beginning of a text.
func literal(format, text string) (value string, end int, ok bool) {
	if format == "xml" || format == "text" || text == "" || text[0] != '"' && text[0] != '\'' {
		end = strings.IndexAny(text, bareEnds[format])
		if end < 0 {
			end = len(text)
		}
		value = strings.TrimSpace(text[:end])
		if format == "xml" {
			return html.UnescapeString(text[:end]), end, true
		}
		return value, end, true
	}
	end = 1
	for end < len(text) && text[end] != text[0] {
		if text[end] == '\\' && (text[0] == '"' || format == "php") {
			end++
		}
		end++
	}
	if end >= len(text) {
		return "", 0, false
	}
	inside := text[1:end]
	switch {
	case text[0] == '\'' && format == "php":
		return phpPlain.Replace(inside), end + 1, true
	case text[0] == '\'':
		return inside, end + 1, true
	case format == "php":
		return phpTwice.Replace(inside), end + 1, true
	case format == "ini" || format == "dotenv":
		return strings.ReplaceAll(iniTwice.Replace(inside), `\n`, "\n"), end + 1, true
	}
	err := json.Unmarshal([]byte(text[:end+1]), &value)
	return value, end + 1, err == nil
}
