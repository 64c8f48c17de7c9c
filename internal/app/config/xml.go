package config

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// xmlFormat writes text of elements (XML 1.0, 2.4).
type xmlFormat struct{}

// A carriage return goes as a reference: readers make a line feed of it
// otherwise (2.11).
var xmlEscapes = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "\r", "&#13;")

// Quote errs for characters that XML 1.0 cannot hold at all (2.2).
func (xmlFormat) Quote(v string) (string, error) {
	if !utf8.ValidString(v) {
		return "", fmt.Errorf("it is not text in UTF-8")
	}
	for _, r := range v {
		if r < 0x20 && r != '\t' && r != '\n' && r != '\r' || r == 0xfffe || r == 0xffff {
			return "", fmt.Errorf("XML cannot hold the character %U", r)
		}
	}
	return xmlEscapes.Replace(v), nil
}

func (xmlFormat) Bare(v string) string { return v }

// Open allows a value only as the whole text of an element.
func (xmlFormat) Open(template string, places []Span) map[int]string {
	closed := map[int]string{}
	for _, p := range places {
		before, after := template[:p.From], template[p.To:]
		open := strings.LastIndexByte(before, '<')
		isText := strings.HasSuffix(before, ">") && open >= 0 && !strings.ContainsAny(before[open+1:open+2], "/!?") &&
			strings.HasPrefix(after, "</")
		if !isText || strings.LastIndex(before, "<!--") > strings.LastIndex(before, "-->") {
			closed[p.From] = "a value in XML must be all the text of an element: <name>{value}</name>"
		}
	}
	return closed
}
