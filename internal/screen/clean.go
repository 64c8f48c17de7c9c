package screen

import (
	"bytes"
	"fmt"
	"regexp"
	"strings"

	"charm.land/lipgloss/v2"

	"tivset/internal/hosting/files"
)

// Nothing of somebody else's (a kit's title, a file's name, a server's message)
// reaches a terminal as anything but text. Texts are cleaned where they are laid
// out; and all that is written goes through a writer (Spelling) that lets through
// no other sequence than this package's own.

// harmful says whether a character could move the cursor, recolour the terminal,
// or turn the direction of what follows (ECMA-48; Unicode 16.0, 23.2).
func harmful(r rune) bool {
	return r < 32 && r != '\n' && r != '\t' || r >= 0x7f && r < 0xa0 || r >= 0x202a && r <= 0x202e ||
		r >= 0x2066 && r <= 0x2069 || files.IsEscape(r)
}

// Clean makes text of somebody else's safe to print: what is harmful is replaced.
func Clean(text string) string {
	if strings.IndexFunc(text, harmful) < 0 {
		return text
	}
	var out strings.Builder
	for _, r := range text {
		switch {
		case files.IsEscape(r): // a byte of a file's name that is no text
			fmt.Fprintf(&out, `\x%02x`, files.Raw(string(r)))
		case harmful(r):
			out.WriteRune('\uFFFD')
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

// CleanName makes a name safe to stand in a list: a line break in it too would
// pass for the next line.
func CleanName(name string) string {
	text := Clean(name)
	if !strings.ContainsAny(text, "\n\t") {
		return text
	}
	return breaks.Replace(text)
}

var breaks = strings.NewReplacer("\n", "\uFFFD", "\t", "\uFFFD")

// ours are the sequences that this package writes: its styles', and those with
// which progress redraws its line.
var ours []string

func init() {
	out := []string{"\r\x1b[K", "\x1b[1A"}
	for _, style := range []lipgloss.Style{strong, faint, good, bad, accent} {
		before, after, _ := strings.Cut(style.Render("x"), "x")
		out = append(out, before, after)
	}
	ours = out
}

// clipboard is what puts a text on the clipboard (OSC 52), written by itself.
var clipboard = regexp.MustCompile(`^\x1b\]52;c;[A-Za-z0-9+/=]*(\x07|\x1b\\)$`)

// safe cleans text but for our own sequences.
func safe(text string) string {
	if strings.IndexFunc(text, harmful) < 0 || clipboard.MatchString(text) {
		return text
	}
	var out strings.Builder
	for len(text) > 0 {
		i := strings.IndexAny(text, "\x1b\r")
		if i < 0 {
			i = len(text)
		}
		out.WriteString(Clean(text[:i]))
		text = text[i:]
		own := ""
		for _, sequence := range ours {
			if sequence != "" && strings.HasPrefix(text, sequence) {
				own = sequence
			}
		}
		switch {
		case own != "":
			out.WriteString(own)
			text = text[len(own):]
		case strings.HasPrefix(text, "\r\n"): // a prompt's end
			out.WriteString("\r\n")
			text = text[2:]
		case text != "":
			out.WriteRune('\uFFFD')
			text = text[1:]
		}
	}
	return out.String()
}

// cleaned cleans what goes into a message, but for what this package has painted
// in it: that is clean inside.
func cleaned(args []any) []any {
	out := make([]any, len(args))
	for i, arg := range args {
		switch v := arg.(type) {
		case string:
			out[i] = safe(v)
		case error:
			out[i] = Clean(v.Error())
		case fmt.Stringer:
			out[i] = Clean(v.String())
		default:
			out[i] = arg
		}
	}
	return out
}

// escaped writes what is harmful in a JSON document as escapes, which only
// strings can hold (RFC 8259, 7).
func escaped(document []byte) []byte {
	if !maybeHarmful(document) || bytes.IndexFunc(document, harmful) < 0 {
		return document
	}
	var out bytes.Buffer
	for _, r := range string(document) {
		if harmful(r) {
			fmt.Fprintf(&out, "\\u%04x", r)
		} else {
			out.WriteRune(r)
		}
	}
	return out.Bytes()
}

// maybeHarmful looks at the bytes alone: those with which what is harmful begins in
// UTF-8. Most documents have none of them.
func maybeHarmful(document []byte) bool {
	for _, b := range document {
		if b < 32 && b != '\n' && b != '\t' || b == 0x7f || b == 0xc2 || b == 0xe2 {
			return true
		}
	}
	return false
}

// cell writes a value of a table that spreadsheets open: what would be a formula
// there is text.
func cell(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}
