package rewrite

import (
	"bytes"
	"encoding/json"
	"strconv"
	"strings"
)

// deepest bounds how far values are taken apart that hold one another.
const deepest = 64

// Value replaces the address in a stored value, whatever form it has: what PHP's
// serialize wrote, with its lengths corrected and however nested or escaped;
// JSON; or plain text.
func (a *Address) Value(v []byte) []byte { return a.value(v, 0) }

func (a *Address) value(v []byte, depth int) []byte {
	if depth > deepest || !a.concerns(v) {
		return v
	}
	if out, ok := a.serialised(v, depth); ok {
		return out
	}
	if out, ok := a.slashed(v, depth); ok {
		return out
	}
	if trimmed := bytes.TrimSpace(v); len(trimmed) > 0 && strings.IndexByte(`{["`, trimmed[0]) >= 0 && json.Valid(v) {
		return a.json(v, depth)
	}
	return a.Text(v)
}

// slashed takes serialised text whose quotes were escaped with backslashes.
func (a *Address) slashed(v []byte, depth int) ([]byte, bool) {
	if !bytes.Contains(v, []byte(`:\"`)) {
		return nil, false
	}
	plain := stripSlashes(v)
	if !bytes.Equal(addSlashes(plain), v) {
		return nil, false
	}
	out, ok := a.serialised(plain, depth)
	if !ok {
		return nil, false
	}
	return addSlashes(out), true
}

func stripSlashes(v []byte) []byte {
	out := make([]byte, 0, len(v))
	for i := 0; i < len(v); i++ {
		if v[i] == '\\' && i+1 < len(v) {
			i++
			if v[i] == '0' {
				out = append(out, 0)
				continue
			}
		}
		out = append(out, v[i])
	}
	return out
}

// addSlashes escapes as PHP's addslashes does.
func addSlashes(v []byte) []byte {
	return []byte(strings.NewReplacer(`\`, `\\`, `'`, `\'`, `"`, `\"`, "\x00", `\0`).Replace(string(v)))
}

// json replaces in the strings of a JSON text, each by itself: one may hold
// something serialised. All around them stays as it is written.
func (a *Address) json(v []byte, depth int) []byte {
	var out []byte
	for i := 0; i < len(v); i++ {
		if v[i] != '"' {
			out = append(out, v[i])
			continue
		}
		end := i + 1
		for end < len(v) && v[end] != '"' {
			if v[end] == '\\' {
				end++
			}
			end++
		}
		if end >= len(v) {
			return a.Text(v)
		}
		out = append(out, a.literal(v[i:end+1], depth)...)
		i = end
	}
	return out
}

func (a *Address) literal(quoted []byte, depth int) []byte {
	if !a.concerns(quoted) {
		return quoted
	}
	var plain string
	if json.Unmarshal(quoted, &plain) != nil {
		return quoted
	}
	if _, is := a.serialised([]byte(plain), depth+1); !is {
		if t := strings.TrimSpace(plain); t == "" || strings.IndexByte(`{["`, t[0]) < 0 {
			return a.Text(quoted) // as it is written
		}
	}
	changed := a.value([]byte(plain), depth+1)
	if string(changed) == plain {
		return quoted
	}
	var buffer bytes.Buffer
	encoder := json.NewEncoder(&buffer)
	encoder.SetEscapeHTML(false)
	if encoder.Encode(string(changed)) != nil {
		return quoted
	}
	out := bytes.TrimSuffix(buffer.Bytes(), []byte("\n"))
	if bytes.Contains(quoted, []byte(`\/`)) {
		out = bytes.ReplaceAll(out, []byte("/"), []byte(`\/`))
	}
	return out
}

// serialised replaces in what PHP's serialize wrote (PHP source,
// ext/standard/var.c). It is not ok when the whole text is not such a value.
func (a *Address) serialised(v []byte, depth int) ([]byte, bool) {
	if len(v) < 4 || strings.IndexByte("abidsNOCErR", v[0]) < 0 || v[len(v)-1] != ';' && v[len(v)-1] != '}' {
		return nil, false
	}
	p := &unserialiser{a: a, in: v, depth: depth}
	if !p.one() || p.at != len(v) {
		return nil, false
	}
	return p.out, true
}

// unserialiser copies a serialised value, its strings replaced.
type unserialiser struct {
	a     *Address
	in    []byte
	at    int
	out   []byte
	depth int
	level int
}

// copied takes over what comes up to and with a byte.
func (p *unserialiser) upTo(end byte) (string, bool) {
	i := bytes.IndexByte(p.in[p.at:], end)
	if i < 0 || i > 64 {
		return "", false
	}
	text := string(p.in[p.at : p.at+i])
	p.at += i + 1
	return text, true
}

func (p *unserialiser) literal(text string) bool {
	if !bytes.HasPrefix(p.in[p.at:], []byte(text)) {
		return false
	}
	p.at += len(text)
	p.out = append(p.out, text...)
	return true
}

// one copies one value.
func (p *unserialiser) one() bool {
	if p.at+2 > len(p.in) || p.level > 1000 {
		return false
	}
	p.level++
	defer func() { p.level-- }()
	kind := p.in[p.at]
	if kind == 'N' {
		return p.literal("N;")
	}
	if !p.literal(string(kind) + ":") {
		return false
	}
	switch kind {
	case 'b', 'i', 'd', 'r', 'R':
		text, ok := p.upTo(';')
		if !ok || strings.ContainsAny(text, `"{}`) {
			return false
		}
		p.out = append(p.out, text+";"...)
		return true
	case 's':
		return p.text(true) && p.literal(";")
	case 'E':
		return p.text(false) && p.literal(";")
	case 'O':
		return p.text(false) && p.literal(":") && p.members()
	case 'C':
		return p.text(false) && p.literal(":") && p.custom()
	case 'a':
		return p.members()
	}
	return false
}

// text copies a string with its length, which may change.
func (p *unserialiser) text(change bool) bool {
	content, ok := p.sized('"', '"')
	if !ok {
		return false
	}
	if change {
		content = p.a.value(content, p.depth+1)
	}
	p.out = append(append(append(p.out, strconv.Itoa(len(content))+`:"`...), content...), '"')
	return true
}

// sized reads LENGTH:"CONTENT".
func (p *unserialiser) sized(open, end byte) ([]byte, bool) {
	digits, ok := p.upTo(':')
	n, err := strconv.Atoi(digits)
	if !ok || err != nil || n < 0 || p.at+n+2 > len(p.in) || p.in[p.at] != open || p.in[p.at+n+1] != end {
		return nil, false
	}
	content := p.in[p.at+1 : p.at+1+n]
	p.at += n + 2
	return content, true
}

// custom copies what a class serialises in a way of its own.
func (p *unserialiser) custom() bool {
	content, ok := p.sized('{', '}')
	if !ok {
		return false
	}
	content = p.a.value(content, p.depth+1)
	p.out = append(append(append(p.out, strconv.Itoa(len(content))+":{"...), content...), '}')
	return true
}

// members copies COUNT:{KEY VALUE …}.
func (p *unserialiser) members() bool {
	digits, ok := p.upTo(':')
	n, err := strconv.Atoi(digits)
	if !ok || err != nil || n < 0 {
		return false
	}
	p.out = append(p.out, digits+":"...)
	if !p.literal("{") {
		return false
	}
	for range 2 * n {
		if !p.one() {
			return false
		}
	}
	return p.literal("}")
}
