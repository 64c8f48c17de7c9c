package rewrite

import (
	"bytes"
	"regexp"
	"strings"
)

// folder is a folder of a server's that has another name now.
type folder struct {
	from, to string
	except   []string // folders of others below it, which stay
}

// Folder has a folder, by its whole path on the server with slashes, replaced by
// another besides. Except lists folders below it that stay where they are.
func (a *Address) Folder(from, to string, except []string) {
	from, to = strings.TrimSuffix(from, "/"), strings.TrimSuffix(to, "/")
	if from == "" || to == "" || from == to {
		return
	}
	f := folder{from: from, to: to}
	for _, other := range except {
		if strings.HasPrefix(other, from+"/") {
			f.except = append(f.except, other)
		}
	}
	a.folders = append(a.folders, f)
	a.needles = append(a.needles, []byte(from[strings.LastIndexByte(from, '/')+1:]))
}

// Tables has the prefix of tables' names replaced where a value as a whole is such
// a name: apps keep the names of their own settings so.
func (a *Address) Tables(from, to string) {
	if from == "" || to == "" || from == to {
		return
	}
	a.tables, a.prefix = regexp.MustCompile(`^`+regexp.QuoteMeta(from)+`[A-Za-z0-9_]+$`), [2]string{from, to}
	a.needles = append(a.needles, []byte(from))
}

// Changes says whether anything is replaced at all.
func (a *Address) Changes() bool { return a != nil && len(a.needles) > 0 }

// concerns says whether a text can hold anything that is replaced.
func (a *Address) concerns(text []byte) bool {
	for _, n := range a.needles {
		if bytes.Contains(text, n) {
			return true
		}
	}
	return false
}

// slashes are how a slash is written: as it is, escaped as in JSON, and in JSON
// within JSON, or as in queries.
var slashes = []string{"/", `\/`, `\\/`, `\\\/`, "%2F", "%2f"}

func spelt(name, slash string) []byte { return []byte(strings.ReplaceAll(name, "/", slash)) }

// text replaces the folder in a text, however its slashes are written.
func (f folder) text(text []byte) []byte {
	for _, slash := range slashes {
		from, to := spelt(f.from, slash), spelt(f.to, slash)
		if !bytes.Contains(text, from) {
			continue
		}
		var out []byte
		done := 0
		for at := 0; ; {
			i := bytes.Index(text[at:], from)
			if i < 0 {
				break
			}
			at += i
			end := at + len(from)
			if !f.whole(text, at, end, slash) {
				at = end
				continue
			}
			out = append(append(out, text[done:at]...), to...)
			done, at = end, end
		}
		text = append(out, text[done:]...)
	}
	return text
}

// whole says whether what was found is the folder: no part of a longer name, and
// nothing of others.
func (f folder) whole(text []byte, at, end int, slash string) bool {
	if at > 0 && (letter(text[at-1]) || strings.IndexByte("._-", text[at-1]) >= 0) || !partEnds(text[end:], slash) {
		return false
	}
	for _, other := range f.except {
		theirs := spelt(other[len(f.from):], slash)
		if bytes.HasPrefix(text[end:], theirs) && partEnds(text[end+len(theirs):], slash) {
			return false
		}
	}
	return true
}
