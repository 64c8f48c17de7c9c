// Package rewrite replaces what changes with a site's place wherever it is
// stored: its address in all its written forms, its folders, its tables' prefix;
// in plain text, in JSON, in what PHP's serialize wrote, and in whole dumps of
// databases, without touching what only looks alike.
package rewrite

import (
	"bytes"
	"fmt"
	"net/url"
	"regexp"
	"strings"
)

// Address replaces one address by another, and what else changes with it.
type Address struct {
	from, to place
	except   []place // addresses of others below the one replaced
	host     []byte  // what every place to replace holds; nil when the address stays
	folders  []folder
	tables   *regexp.Regexp // a name that begins with the tables' prefix
	prefix   [2]string
	needles  [][]byte // what a text holds of which anything is replaced
}

// place is an address taken apart.
type place struct {
	scheme, host, port string
	path               []string
}

func parse(address string) (place, error) {
	u, err := url.Parse(address)
	if err != nil {
		return place{}, err
	}
	if u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" {
		return place{}, fmt.Errorf("%q is no address of a site", address)
	}
	p := place{scheme: u.Scheme, host: u.Hostname(), port: u.Port()}
	for _, part := range strings.Split(u.EscapedPath(), "/") {
		if part != "" {
			p.path = append(p.path, part)
		}
	}
	return p, nil
}

// New makes the replacement of the address from by to, both with http:// or
// https://. Except lists addresses of other sites, which stay.
func New(from, to string, except []string) (*Address, error) {
	a := &Address{}
	if from == to {
		return a, nil
	}
	var err error
	if a.from, err = parse(from); err != nil {
		return nil, err
	}
	if a.to, err = parse(to); err != nil {
		return nil, err
	}
	for _, x := range except {
		p, err := parse(x)
		if err != nil {
			return nil, err
		}
		if p.host == a.from.host && p.port == a.from.port && len(p.path) > len(a.from.path) {
			a.except = append(a.except, p)
		}
	}
	a.host = []byte(a.from.host)
	a.needles = [][]byte{a.host}
	return a, nil
}

// Text replaces address and folders in plain text, also where slashes are escaped
// as in JSON (\/) or as in queries (%2F).
func (a *Address) Text(text []byte) []byte {
	if a.tables != nil && a.tables.Match(text) {
		return append([]byte(a.prefix[1]), text[len(a.prefix[0]):]...)
	}
	text = a.addresses(text)
	for _, f := range a.folders {
		text = f.text(text)
	}
	return text
}

func (a *Address) addresses(text []byte) []byte {
	if len(a.host) == 0 {
		return text
	}
	var out []byte
	done := 0
	for at := 0; ; {
		i := bytes.Index(text[at:], a.host)
		if i < 0 {
			break
		}
		at += i
		begin, end, found := a.match(text, done, at)
		if !found {
			at += len(a.host)
			continue
		}
		out = append(append(out, text[done:begin]...), a.written(text[begin:at])...)
		done, at = end, end
	}
	if done == 0 {
		return text
	}
	return append(out, text[done:]...)
}

// match looks whether the host at an offset belongs to the address, and gives
// the extent of what is to be replaced.
func (a *Address) match(text []byte, done, at int) (begin, end int, found bool) {
	begin, slash := before(text[done:at])
	if slash == "" {
		return 0, 0, false
	}
	begin += done
	end, ok := a.from.after(text, at+len(a.host), slash)
	if !ok {
		return 0, 0, false
	}
	for _, other := range a.except {
		if _, theirs := other.after(text, at+len(a.host), slash); theirs {
			return 0, 0, false
		}
	}
	return begin, end, true
}

// before reads backwards what stands before a host: two slashes, and a scheme
// or none. It gives how a slash is written, "" when the host is not an
// address's.
func before(text []byte) (begin int, slash string) {
	end := len(text)
	for _, s := range []string{"%2F", "%2f", "/"} {
		if bytes.HasSuffix(text, []byte(s)) {
			slash = s
		}
	}
	if slash == "" {
		return 0, ""
	}
	if slash == "/" {
		n := 0
		for n+2 <= end && text[end-2-n] == '\\' {
			n++
		}
		slash = strings.Repeat(`\`, n) + "/"
	}
	if !bytes.HasSuffix(text, []byte(slash+slash)) {
		return 0, ""
	}
	rest := text[:end-2*len(slash)]
	for _, colon := range []string{":", "%3A", "%3a"} {
		if !bytes.HasSuffix(rest, []byte(colon)) {
			continue
		}
		named := rest[:len(rest)-len(colon)]
		for _, scheme := range []string{"https", "http"} {
			if len(named) >= len(scheme) && strings.EqualFold(string(named[len(named)-len(scheme):]), scheme) &&
				(len(named) == len(scheme) || !letter(named[len(named)-len(scheme)-1])) {
				return len(named) - len(scheme), slash
			}
		}
		return 0, "" // another scheme
	}
	if len(rest) > 0 && letter(rest[len(rest)-1]) {
		return 0, ""
	}
	return len(rest), slash
}

// after reads what follows a host: port and path, and then nothing that would
// make it another address.
func (p place) after(text []byte, at int, slash string) (end int, ok bool) {
	if p.port != "" {
		n := prefix(text[at:], ":"+p.port, "%3A"+p.port, "%3a"+p.port)
		if n == 0 {
			return 0, false
		}
		at += n
		if at < len(text) && text[at] >= '0' && text[at] <= '9' {
			return 0, false
		}
	} else if !hostEnds(text[at:]) {
		return 0, false
	}
	for _, part := range p.path {
		n := prefix(text[at:], slash+part)
		if n == 0 {
			return 0, false
		}
		at += n
	}
	if len(p.path) > 0 && !partEnds(text[at:], slash) {
		return 0, false
	}
	return at, true
}

func prefix(text []byte, of ...string) int {
	for _, p := range of {
		if bytes.HasPrefix(text, []byte(p)) {
			return len(p)
		}
	}
	return 0
}

func letter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

// hostEnds says whether a host's name is over: example.com does not end before
// .au, nor before another port.
func hostEnds(rest []byte) bool {
	if len(rest) == 0 {
		return true
	}
	follows := len(rest) > 1 && letter(rest[1])
	switch c := rest[0]; {
	case letter(c) || c == '-' || c == '_' || c == '@':
		return false
	case c == '.' || c == ':':
		return !follows
	case c == '%' && len(rest) > 3 && strings.EqualFold(string(rest[1:3]), "3A"):
		return !letter(rest[3])
	}
	return true
}

// partEnds says whether a part of a path is over: /forum does not end before
// /forum2, but before a full stop at the end of a sentence.
func partEnds(rest []byte, slash string) bool {
	if len(rest) == 0 || bytes.HasPrefix(rest, []byte(slash)) {
		return true
	}
	switch c := rest[0]; {
	case letter(c) || strings.IndexByte("-_~+@!*", c) >= 0:
		return false
	case c == '.':
		return len(rest) == 1 || !letter(rest[1])
	case c == '%':
		if len(rest) < 3 {
			return false
		}
		return strings.Contains(" 2F 3F 23 26 22 27 20 3C 3E ", " "+strings.ToUpper(string(rest[1:3]))+" ")
	}
	return true
}

// written is the new address, written as the old one was: head is what of that
// stood before its host.
func (a *Address) written(head []byte) []byte {
	_, slash := before(head)
	colon := ":"
	for _, c := range []string{"%3A", "%3a"} {
		if bytes.Contains(head, []byte(c)) {
			colon = c
		}
	}
	var out []byte
	if bytes.Contains(head, []byte(colon)) {
		out = append(out, a.to.scheme+colon...)
	}
	out = append(out, slash+slash+a.to.host...)
	if a.to.port != "" {
		if strings.HasPrefix(slash, "%") && colon == ":" {
			colon = "%3A"
		}
		out = append(out, colon+a.to.port...)
	}
	for _, part := range a.to.path {
		out = append(out, slash+part...)
	}
	return out
}
