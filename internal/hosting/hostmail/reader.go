package hostmail

import (
	"regexp"
	"strings"
	"unicode"
)

// Read understands a letter: a text, a page, or a mail as it is saved (RFC 5322, with MIME).
func Read(text []byte) Letter {
	if len(text) > Longest {
		text = text[:Longest]
	}
	r := &reader{lines: strings.Split(plainText(text), "\n")}
	for r.at = 0; r.at < len(r.lines); r.at++ {
		r.line(unquoted(r.lines[r.at]))
	}
	return r.done()
}

// reader goes through a letter line by line.
type reader struct {
	lines         []string
	at            int // the line that is read
	out           Letter
	about         sense    // of the part that one is in
	scheme        string   // that the part names
	domains       bool     // the part lists domains
	columns       []column // of a table that one is in
	secrets       []string // to be taken out of lines that are shown
	lastOf        int      // the domain that was named last, from 1
	webFolder     string   // that the only domain shows
	enginePending string   // of the database that is described next
}

var (
	quotes   = regexp.MustCompile(`^(\s*>)+ ?`)
	marks    = regexp.MustCompile(`^[\s*•·–#-]+(\s|$)`)
	rule     = regexp.MustCompile(`^[\s|+=_*–—:-]*$`)
	emphasis = regexp.MustCompile(`\*\*([^*]+)\*\*`)
	leaders  = regexp.MustCompile(`\.{2,}(\s*:)?`)
	link     = regexp.MustCompile(`(?i)\b(sftp|ftps|ftp|https?)://[^\s<>"'|]+`)
	remark   = regexp.MustCompile(`^(\S+)\s+\([^)]*\s[^)]*\)$`)
)

// unquoted is a line without the marks of an answer, a list, or bold type.
func unquoted(line string) string {
	line = strings.ReplaceAll(quotes.ReplaceAllString(line, ""), "\u00a0", " ")
	line = marks.ReplaceAllString(strings.TrimRight(line, " \t\r"), "")
	line = strings.Trim(line, "|│ \t")
	return strings.TrimSpace(emphasis.ReplaceAllString(line, "$1"))
}

// line reads one line.
func (r *reader) line(line string) {
	if rule.MatchString(line) {
		if strings.TrimSpace(line) == "" {
			r.columns = nil
		}
		return
	}
	if r.table(line) || r.links(line) || r.command(line) {
		return
	}
	text := leaders.ReplaceAllString(line, ": ")
	if !strings.Contains(line, "..:") && !strings.Contains(line, "...") {
		text = line
	}
	all := tokens(text)
	if r.listed(all) || r.facts(text, all) > 0 || r.below(all) {
		return
	}
	r.heading(line, all)
}

// calls are the programs that sign in, as a mail shows their use: sftp -P 2022 quill@host.
var calls = regexp.MustCompile(`^(?:\$ )?(sftp|ssh|ftp|lftp)\s+(?:-[pP]\s*(\d{1,5})\s+)?([^\s@]+)@([^\s@:]+)` +
	`(?:\s+-[pP]\s*(\d{1,5}))?$`)

// command takes the call of a program that signs in.
func (r *reader) command(line string) bool {
	m := calls.FindStringSubmatch(line)
	if m == nil || !isHost(m[4]) {
		return false
	}
	scheme := schemeOf(strings.TrimPrefix(m[1], "l"))
	if !r.server(scheme, joinedPort(m[4], m[2]+m[5])) {
		return false
	}
	r.begin(aboutFiles)
	r.first("user", &r.out.User, m[3])
	return true
}

// heading begins a part, if it says what it is about.
func (r *reader) heading(line string, all []token) {
	const longest = 80
	if len(all) == 0 || len(line) > longest || salutations[all[0].word] || strings.HasSuffix(line, ",") {
		return
	}
	for at := range all {
		of, _ := phrase(all, at)
		for _, s := range of {
			switch {
			case s >= aboutPanel && s <= aboutFiles:
				r.begin(s)
				r.scheme = schemeOf(line)
				r.engine(line)
				return
			case s == domain && len(all) <= 3:
				r.begin(noSense)
				r.domains = true
				return
			}
		}
	}
}

func (r *reader) begin(about sense) { r.about, r.scheme, r.domains = about, "", false }

// schemeOf is how a text says that files are reached, the best that it names.
func schemeOf(text string) string {
	best := ""
	for _, t := range tokens(strings.NewReplacer("/", " ", "-", " ", "(", " ", ")", " ").Replace(text)) {
		switch t.word {
		case "sftp", "ssh":
			return "sftp"
		case "ftps":
			best = "ftps"
		case "ftp":
			if best == "" {
				best = "ftp"
			}
		}
	}
	return best
}

// engine notes which kind of database server a text names.
func (r *reader) engine(text string) string {
	text = strings.ToLower(text)
	of := ""
	switch {
	case strings.Contains(text, "postgres"):
		of = "postgresql"
	case strings.Contains(text, "mysql"), strings.Contains(text, "mariadb"):
		of = "mariadb"
	default:
		return ""
	}
	r.pendingEngine(of)
	return of
}

// facts takes all values of a line by their labels, and gives how many there were.
func (r *reader) facts(line string, all []token) (n int) {
	lineDomain := 0
	for at := 0; at < len(all); {
		l, found := readLabel(all, at)
		if !found {
			at++
			continue
		}
		value, next := r.value(line, all, l, n)
		if value == "" {
			if s := l.topic(); s != noSense && l.strong && !l.complete { // MySQL: user …, password …
				r.begin(s)
				r.scheme = schemeOf(l.words)
				r.engine(l.words)
			}
			at = max(at+1, min(l.next, next))
			continue
		}
		before := r.lastOf
		if r.take(line, l, value, n > 0, lineDomain) {
			n++
			if l.topic() == aboutData && next+1 < len(all) && prepositions[all[next].word] && isHost(all[next+1].text) {
				r.take(line, label{senses: []sense{aboutData, host}, strong: true}, all[next+1].text, true, 0) // … on its server
				next += 2
			}
		}
		if r.lastOf != before {
			lineDomain = r.lastOf
		}
		at = next
	}
	return n
}

// value is what stands behind a label, and the token after it.
func (r *reader) value(line string, all []token, l label, before int) (value string, next int) {
	if l.complete {
		return "", len(all)
	}
	if l.field() == password {
		return r.secret(line, all, l, before)
	}
	if of, n := phrase(all, l.next); l.field() == noSense && n > 0 && of[0] != filler {
		return "", l.next // what follows has a label of its own
	}
	named := l.topic() == aboutData && before > 0 && userForm.MatchString(trimmed(all[l.next].text)) &&
		!common[all[l.next].word] // …, database quill1, …
	if l.strong || l.verb || named || l.field() != noSense {
		return all[l.next].text, l.next + 1
	}
	for i := l.next; i < len(all); i++ { // the address of what a sentence is about: “you reach it at …”
		bare := !strings.Contains(trimmed(all[i].text), ".") && !prepositions[all[max(i-1, 0)].word]
		switch {
		case isHost(all[i].text) && !bare, l.topic() == aboutPanel && link.MatchString(all[i].text),
			l.topic() == aboutFiles && isPath(all[i].text) && len(trimmed(all[i].text)) > 1:
			return all[i].text, i + 1
		case strings.HasSuffix(all[i].text, ",") || strings.HasSuffix(all[i].text, "."):
			return "", l.next
		}
	}
	return "", l.next
}

// secret is a password: in a line of its own all of the line; in a sentence what comes before
// the next thing that is named, without the sentence's full stop.
func (r *reader) secret(line string, all []token, l label, before int) (string, int) {
	first := l.next
	if !l.strong && !l.verb && before == 0 {
		return "", first // “your password”, in prose
	}
	end := len(all)
	for i := first + 1; i < len(all); i++ {
		ends := strings.HasSuffix(all[i-1].text, ",") || strings.HasSuffix(all[i-1].text, ";") || all[i].gap ||
			and[all[i-1].word]
		if !ends {
			continue
		}
		if of, found := readLabel(all, i); found && (of.strong || !l.begins || !l.strong) && of.field() != noSense &&
			!of.complete {
			end = i
			break
		}
	}
	text := line[all[first].from:]
	if end < len(all) {
		last := end
		for last > first+1 && and[all[last-1].word] {
			last--
		}
		text = strings.TrimRight(line[all[first].from:all[last-1].to], ",; ")
	}
	sentence := !l.begins || l.verb || !l.strong
	if sentence && end == len(all) && len(text) > 1 {
		text = strings.TrimSuffix(text, ".")
	}
	text = strings.TrimSpace(text)
	if m := remark.FindStringSubmatch(text); m != nil {
		text = m[1]
	}
	text = unwrapped(text)
	if !l.strong && prose(text) {
		return "", first
	}
	return text, end
}

// and joins two things in a sentence.
var and = set("and und et y e en i a und, oraz")

// prose says whether a text is rather words than a password.
func prose(text string) bool {
	words := strings.Fields(text)
	if len(words) < 2 {
		return len(words) == 0 || len(text) < 3
	}
	return !strings.ContainsFunc(text, func(r rune) bool {
		return unicode.IsDigit(r) || unicode.IsUpper(r) || strings.ContainsRune("#=%&*+!?$§@;^~", r)
	})
}

// unwrapped takes quotation marks away that stand around all of a value.
func unwrapped(text string) string {
	for _, pair := range []string{`""`, "''", "``", "“”", "„“", "«»"} {
		marks := []rune(pair)
		inner, opened := strings.CutPrefix(text, string(marks[0]))
		inner, closed := strings.CutSuffix(inner, string(marks[1]))
		if opened && closed && inner != "" && (pair == "``" || !strings.ContainsAny(inner, pair)) {
			return strings.TrimSpace(inner)
		}
	}
	return text
}

// below reads a label that stands alone with its value on the line below it.
func (r *reader) below(all []token) bool {
	l, found := readLabel(all, 0)
	if !found || !l.complete || l.field() == noSense || r.at+1 >= len(r.lines) {
		return false
	}
	next := unquoted(r.lines[r.at+1])
	under := tokens(next)
	if len(under) == 0 {
		return false
	}
	if other, is := readLabel(under, 0); is && (other.strong || other.complete) {
		return false
	}
	value := under[0].text
	if l.field() == password {
		value = unwrapped(next)
	} else if len(under) > 1 {
		return false
	}
	l.strong, l.begins = true, true
	r.at++
	return r.take(next, l, value, false, 0)
}
