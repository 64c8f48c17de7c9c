package files

import (
	"strings"
	"unicode/utf8"
)

// Names of files are bytes, whatever a program writes them with. Here they are text: a byte that is no part of any text
// in UTF-8 is carried as a letter of a private plane (Unicode 16.0, 23.5), and becomes that byte again where the file
// is. So any name can be looked at, kept, moved and put back, and stands in a journal or a backup as it is.
const (
	firstEscape = rune(0x10fe00) // of the byte 0; the bytes from 0x80 on are used
	lastEscape  = firstEscape + 0xff
)

// IsEscape says whether a letter stands for a byte of a name.
func IsEscape(r rune) bool { return r >= firstEscape && r <= lastEscape }

// Escape gives the name of a file as text, from the bytes that it has where it is.
func Escape(raw string) string {
	if utf8.ValidString(raw) && strings.IndexFunc(raw, IsEscape) < 0 {
		return raw
	}
	var out strings.Builder
	for at := 0; at < len(raw); {
		r, n := utf8.DecodeRuneInString(raw[at:])
		if r == utf8.RuneError && n < 2 || IsEscape(r) { // a file may have such a letter itself: its bytes are carried
			for _, b := range []byte(raw[at : at+n]) {
				out.WriteRune(firstEscape + rune(b))
			}
		} else {
			out.WriteString(raw[at : at+n])
		}
		at += n
	}
	return out.String()
}

// Raw gives the bytes of a name where the file is, from its text.
func Raw(name string) string {
	if strings.IndexFunc(name, IsEscape) < 0 {
		return name
	}
	var out strings.Builder
	for _, r := range name {
		if IsEscape(r) {
			out.WriteByte(byte(r - firstEscape))
		} else {
			out.WriteRune(r)
		}
	}
	return out.String()
}
