package runtime

import (
	"regexp"
	"strings"
)

// What there is of PHP's grammar that tells where a page's code begins, and whether it does anything when the page is
// asked for by itself (PHP manual, Language Reference: basic syntax, namespaces, declare).

// token is a word, a variable or a sign of a page's code, and where it is in the page. Texts and comments are none.
type token struct {
	text    string
	at, end int
}

// phpToken finds what is not plain code and the code's words: in code, a comment, a text, a heredoc's beginning, a
// variable or a word.
var (
	phpOpen  = regexp.MustCompile(`<\?(?:php\b|=|\s)`)
	phpPiece = regexp.MustCompile(`(?s)^(?:` + strings.Join([]string{
		`\s+`, `/\*.*?(?:\*/|\z)`, `(?://|#(?:[^\[]))`, `"(?:\\.|[^"\\])*"?`, `'(?:\\.|[^'\\])*'?`,
		"`(?:\\\\.|[^`\\\\])*`?", `<<<[ \t]*["']?(\w+)["']?\r?\n`, `\?>`, `\$?[\w\\\x80-\xff]+`, `[-?]*>|::|.`}, "|") + `)`)
	phpLine = regexp.MustCompile(`^[^\n]*?(\?>|\n|\z)`)
)

// tokens lists a page's code.
func tokens(page string) (out []token) {
	for at := 0; at < len(page); {
		open := phpOpen.FindStringIndex(page[at:])
		if open == nil {
			return out
		}
		at = code(page, at+open[1], &out)
	}
	return out
}

// code adds the tokens from a place on in code, and gives where the code ends.
func code(page string, at int, out *[]token) int {
	for at < len(page) {
		m := phpPiece.FindStringSubmatchIndex(page[at:])
		piece := page[at : at+m[1]]
		switch {
		case piece == "?>":
			*out = append(*out, token{";", at, at + 2}) // it ends a statement
			return at + 2
		case strings.HasPrefix(piece, "//") || piece[0] == '#' && piece != "#":
			at += len(phpLine.FindString(page[at:]))
			if strings.HasSuffix(page[:at], "?>") {
				at -= 2
			}
			continue
		case m[2] >= 0:
			at += m[1] + heredoc(page[at+m[1]:], page[at+m[2]:at+m[3]])
			continue
		case !strings.ContainsAny(piece[:1], " \t\r\n\"'`") && !strings.HasPrefix(piece, "/*"):
			*out = append(*out, token{piece, at, at + m[1]})
		}
		at += m[1]
	}
	return at
}

// heredoc gives how long a text of this kind is, with the mark that ends it.
func heredoc(text, mark string) int {
	end := regexp.MustCompile(`(?m)^[ \t]*` + mark + `\b`).FindStringIndex(text)
	if end == nil {
		return len(text)
	}
	return end[1]
}

// begins gives where a statement can be put into a page that is carried out before all others; code says whether that
// is within code. What PHP wants to be first of all stays first.
func begins(page string) (at int, within bool) {
	if strings.HasPrefix(page, "#!") { // for a shell, and no part of the page
		at = strings.IndexByte(page, '\n') + 1
	}
	open := phpOpen.FindStringIndex(page[at:])
	if open == nil || open[0] > 0 || page[at+2] == '=' {
		return at, false
	}
	at += open[1]
	list := tokens(page)
	for len(list) > 1 {
		end := 0
		switch strings.ToLower(list[0].text) {
		case ";":
			end = 1
		case "declare":
			for end < len(list) && list[end].text != ")" {
				end++
			}
			if end++; end >= len(list) || list[end].text != ";" { // a block of its own
				return at, true
			}
			end++
		case "namespace":
			for end < len(list) && list[end].text != ";" && list[end].text != "{" {
				end++
			}
			end++
		}
		if end == 0 || end > len(list) || strings.Contains(page[at:list[end-1].end], "?>") {
			break
		}
		at, list = list[end-1].end, list[end:]
	}
	return at, true
}

// declares begin what does nothing before it is called.
var declares = map[string]bool{"class": true, "interface": true, "trait": true, "enum": true, "function": true}

// acts are what a page that does something has outside of that: it brings in others, or looks at what it was asked.
var acts = map[string]bool{"include": true, "include_once": true, "require": true, "require_once": true, "eval": true,
	"$_get": true, "$_post": true, "$_request": true, "$_server": true, "$_files": true, "$_cookie": true,
	"$_session": true}

// active says whether a page does something when it is asked for by itself.
func active(page string) bool {
	list := tokens(page)
	for i := 0; i < len(list); i++ {
		word := strings.ToLower(list[i].text)
		switch {
		case acts[word]:
			return true
		case declares[word] && declared(list, i):
			i = body(list, i)
		}
	}
	return false
}

// declared says whether a word at a place of a page's code begins a declaration: it is no member of that name, and what
// it declares has a name.
func declared(list []token, i int) bool {
	if i > 0 && (list[i-1].text == "::" || strings.HasSuffix(list[i-1].text, "->") || list[i-1].text == "use") {
		return false
	}
	if i+1 < len(list) && list[i+1].text == "&" {
		i++
	}
	if i+1 == len(list) {
		return false
	}
	next := list[i+1].text
	return list[i].text == "class" || regexp.MustCompile(`^[A-Za-z_\x80-\xff]`).MatchString(next)
}

// body gives the last place of what is declared at one: its closing brace, or the semicolon where it has no body.
func body(list []token, i int) int {
	depth := 0
	for ; i < len(list); i++ {
		switch list[i].text {
		case "{":
			depth++
		case "}":
			if depth--; depth <= 0 {
				return i
			}
		case ";":
			if depth == 0 {
				return i
			}
		}
	}
	return i
}
