package hostmail

import (
	"net"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// token is a word of a line, with where it stands.
type token struct {
	text     string // as written
	word     string // in lower case, without what stands around it
	from, to int    // in the line
	gap      bool   // a column's edge stands before it: a tab, several spaces, a bar
}

// tokens takes a line apart.
func tokens(line string) (out []token) {
	for at := 0; at < len(line); {
		r, size := utf8.DecodeRuneInString(line[at:])
		if unicode.IsSpace(r) || r == '|' || r == '│' {
			at += size
			continue
		}
		end := at
		for end < len(line) {
			r, size := utf8.DecodeRuneInString(line[end:])
			if unicode.IsSpace(r) || r == '|' || r == '│' {
				break
			}
			end += size
		}
		t := token{text: line[at:end], from: at, to: end}
		if len(out) > 0 {
			between := line[out[len(out)-1].to:at]
			t.gap = strings.ContainsAny(between, "\t|│") || len(between) > 1
		}
		t.word = bare(t.text)
		out = append(out, t)
		at = end
	}
	return out
}

// bare is a word in lower case, without what stands around it.
func bare(text string) string {
	word := strings.ToLower(strings.Trim(text, `.,;:=()[]*"'`+"`“”„«»"))
	for _, article := range []string{"l'", "d'", "dell'", "all'", "l’", "d’"} {
		if rest, is := strings.CutPrefix(word, article); is && rest != "ordine" {
			return rest
		}
	}
	return word
}

// label is what a line says that a value is.
type label struct {
	senses   []sense
	words    string // as written, in lower case
	of       string // the domain that it names itself, "" for none
	next     int    // the token after it, and after what joins it to its value
	strong   bool   // a colon, a dash or a column stands behind it
	verb     bool   // “is” stands behind it
	begins   bool   // nothing but marks of a list stand before it
	complete bool   // nothing stands behind it
}

// readLabel reads a label that begins at a token.
func readLabel(all []token, at int) (l label, found bool) {
	i := at
	var written []string
	for i < len(all) {
		if i > at && (all[i].gap || joined(all[i-1].text)) {
			break
		}
		of, n := phrase(all, i)
		if n == 0 {
			break
		}
		for _, s := range of {
			if s != filler {
				l.senses = append(l.senses, s)
			}
		}
		for _, t := range all[i : i+n] {
			written = append(written, t.word)
		}
		i += n
	}
	for i > at && len(l.senses) > 0 && !joined(all[i-1].text) { // fillers at its end belong to what follows
		if of, n := phrase(all, i-1); n == 1 && len(of) == 1 && of[0] == filler && !verbs[all[i-1].word] {
			i--
			continue
		}
		break
	}
	if len(l.senses) == 0 {
		return l, false
	}
	l.words = strings.Join(written, " ")
	l.begins = !slices.ContainsFunc(all[:at], func(t token) bool { return t.word != "" && !plainFiller(t.word) })
	for i < len(all) && plainFiller(all[i].word) && i+1 < len(all) && isDomain(all[i+1].text) && strings.HasSuffix(
		all[i+1].text, ":") { // the folder of lockside.example: …
		i++
	}
	if i < len(all) && !joined(all[i-1].text) && strings.HasSuffix(all[i].text, ":") && isDomain(all[i].text) {
		l.of = bare(all[i].text)
		i++
	}
	l.strong = joined(all[i-1].text)
	if i < len(all) {
		switch {
		case strings.Trim(all[i].text, ".:=–→->") == "" && all[i].text != "":
			l.strong = true
			i++
		case verbs[all[i].word] && !l.strong:
			l.verb = true
			i++
		case all[i].gap && l.begins:
			l.strong = true
		}
	}
	l.next, l.complete = i, i >= len(all)
	return l, true
}

func plainFiller(word string) bool {
	of := senses[word]
	return len(of) == 1 && of[0] == filler
}

// joined says whether a word ends in what joins a label to its value.
func joined(text string) bool {
	return strings.HasSuffix(text, ":") || strings.HasSuffix(text, "=") || strings.HasSuffix(text, ":**") ||
		strings.HasSuffix(text, "：")
}

// phrase reads one word of a label, which may be of several.
func phrase(all []token, at int) (of []sense, n int) {
	for n = min(longestPhrase, len(all)-at); n > 1; n-- {
		var words []string
		for i, t := range all[at : at+n] {
			if i > 0 && (t.gap || joined(all[at+i-1].text) || strings.HasSuffix(all[at+i-1].text, ",")) {
				words = nil
				break
			}
			words = append(words, t.word)
		}
		if of := senses[strings.Join(words, " ")]; len(words) > 0 && of != nil {
			return of, n
		}
	}
	if at >= len(all) || !isWord(all[at].text) {
		return nil, 0
	}
	if of := meaning(all[at].word); of != nil {
		return of, 1
	}
	return nil, 0
}

// isWord says whether a token can be one of a label: hosts, paths and numbers are none.
func isWord(text string) bool {
	text = strings.TrimRight(strings.Trim(text, `*"'()[]`), ".:=,;")
	return !strings.ContainsAny(text, ".@:0123456789") || strings.HasPrefix(strings.ToLower(text), "pop3")
}

// has says whether a label has a sense.
func (l label) has(s sense) bool { return slices.Contains(l.senses, s) }

// field is what the label's value is.
func (l label) field() sense {
	if l.has(webRoot) {
		return folder
	}
	unclear := l.has(ignored) && l.topic() == noSense && !strings.Contains(l.words, "server")
	for _, s := range []sense{password, user, port, folder, domain, host, protocol, name} {
		if l.has(s) {
			if unclear && (s == host || s == name) { // an e-mail's address, a customer's name
				return ignored
			}
			return s
		}
	}
	if unclear {
		return ignored
	}
	return noSense
}

// topic is what the label says that it is about.
func (l label) topic() sense {
	for _, s := range []sense{aboutPanel, aboutNames, aboutInbox, aboutData, aboutMail, aboutFiles} {
		if l.has(s) {
			return s
		}
	}
	return noSense
}

var (
	hostForm = regexp.MustCompile(`^(?i)([\pL0-9]([\pL0-9-]*[\pL0-9])?\.)*[\pL0-9]([\pL0-9-]*[\pL0-9])?(:[0-9]{1,5})?$`)
	portForm = regexp.MustCompile(`^[0-9]{1,5}$`)
	userForm = regexp.MustCompile(`^[\pL0-9][\pL0-9._@+-]*$`)
)

// trimmed is a value without what a sentence or a page puts around it.
func trimmed(text string) string { return strings.Trim(text, `.,;()[]*"'`+"`“”„«»<>") }

// isHost says whether a text is a server with a name of several parts, a number, or localhost.
func isHost(text string) bool {
	text = trimmed(text)
	name, _, _ := strings.Cut(text, ":")
	return hostForm.MatchString(text) && (strings.Contains(name, ".") || strings.EqualFold(name, "localhost"))
}

// isDomain says whether a text is the name or address of a site.
func isDomain(text string) bool {
	text = strings.TrimSuffix(trimmed(text), ":")
	if _, rest, is := strings.Cut(text, "://"); is {
		text, _, _ = strings.Cut(rest, "/")
	}
	name, _, _ := strings.Cut(text, ":")
	return isHost(name) && net.ParseIP(name) == nil && strings.Contains(name, ".") && !strings.EqualFold(name, "localhost")
}

// isPath says whether a text is a folder beyond doubt.
func isPath(text string) bool {
	text = trimmed(text)
	if strings.Contains(text, "://") {
		return false
	}
	return strings.Contains(text, "/") || set("public_html htdocs httpdocs www html public webroot")[strings.ToLower(text)]
}
