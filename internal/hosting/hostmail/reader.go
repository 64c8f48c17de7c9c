package hostmail

import (
	"net"
	"net/url"
	"regexp"
	"slices"
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

// take takes a value by its label, and by what the label or the part around it is about. It says
// whether that was a fact.
func (r *reader) take(line string, l label, value string, inline bool, lineDomain int) bool {
	about, is := l.topic(), l.field()
	if about == aboutNames || is == ignored {
		return false
	}
	if is == domain && about == noSense {
		return r.domain(value, line)
	}
	if l.of != "" && is == folder {
		return r.folderOf(r.domainNamed(l.of), value)
	}
	if is == folder && (l.has(webRoot) || lineDomain > 0 || about == noSense && r.domains) {
		if lineDomain == 0 {
			lineDomain = r.lastOf
		}
		if lineDomain > 0 || l.has(webRoot) {
			return (l.strong || isPath(value)) && r.folderOf(lineDomain, value)
		}
	}
	named := about != noSense
	if !named {
		about = r.about
	}
	taken := r.takeOf(about, is, l, value, inline)
	if taken && named && (is == noSense || is == host || is == user || is == name || is == domain) {
		if about != r.about {
			r.begin(about)
		}
		if s := schemeOf(l.words); s != "" {
			r.scheme = s
		}
	}
	return taken
}

func (r *reader) takeOf(about, is sense, l label, value string, inline bool) bool {
	switch about {
	case aboutData:
		return r.data(is, l, value, inline)
	case aboutMail:
		return r.mail(is, l, value, inline)
	case aboutPanel:
		if isDomain(value) || link.MatchString(value) {
			r.panel(strings.TrimRight(trimmed(value), "/"))
			return true
		}
		return l.strong // its user and its password are nobody's
	case aboutInbox:
		return l.strong || isHost(value)
	case aboutNames:
		return false
	}
	return r.files(is, l, value, inline)
}

// plausible says whether a value has the form of what it is said to be.
func plausible(is sense, l label, value string, inline bool) bool {
	switch is {
	case name:
		return isHost(value) || userForm.MatchString(trimmed(value)) && (l.strong || inline && !common[bare(value)])
	case host, noSense:
		return isHost(value)
	case port:
		return portForm.MatchString(trimmed(value))
	case folder:
		return l.strong || isPath(value)
	case user:
		return userForm.MatchString(trimmed(value)) && (l.strong || l.verb && !common[bare(value)] || inline &&
			!common[bare(value)])
	}
	return true
}

// common are words that follow “user” in prose.
var common = set("name names and or with for to in on of the is are who can may must will und oder mit für zu " +
	"et ou avec pour y o con para e per en met voor guide manual account accounts area")

func (r *reader) files(is sense, l label, value string, inline bool) bool {
	if is == protocol {
		if s := schemeOf(value); s != "" {
			r.scheme = s
			for i := range r.out.Servers {
				first(&r.out.Servers[i].Scheme, s)
			}
			return true
		}
		return false
	}
	if is == noSense && isPath(value) && strings.HasPrefix(trimmed(value), "/") && len(trimmed(value)) > 1 {
		is = folder
	}
	if !plausible(is, l, value, inline) {
		return false
	}
	switch is {
	case host, noSense, name:
		scheme := schemeOf(l.words)
		if scheme == "" {
			scheme = r.scheme
		}
		return r.server(scheme, value)
	case port:
		return r.port(schemeOf(l.words), trimmed(value))
	case user:
		r.first("user", &r.out.User, trimmed(value))
	case password:
		r.hidden("password", &r.out.Password, value)
	case folder:
		r.first("folder", &r.out.Folder, strings.TrimRight(trimmedPath(value), "."))
	default:
		return false
	}
	return true
}

func trimmedPath(value string) string { return strings.Trim(value, `,;()*"'`+"`“”„«»<>") }

// server adds a server of files that is named, and completes one that is there.
func (r *reader) server(scheme, value string) bool {
	value = strings.ToLower(trimmed(value))
	if !isHost(value) {
		return false
	}
	name, port, _ := strings.Cut(value, ":")
	r.fact("server", value)
	for i := range r.out.Servers {
		if s := &r.out.Servers[i]; s.Host == name && (s.Scheme == scheme || scheme == "" || s.Scheme == "") {
			first(&s.Scheme, scheme)
			first(&s.Port, port)
			return true
		}
	}
	r.out.Servers = append(r.out.Servers, Server{scheme, name, port})
	return true
}

// port completes the servers that it can be of.
func (r *reader) port(scheme, value string) bool {
	taken := false
	for i := range r.out.Servers {
		s := &r.out.Servers[i]
		if s.Port == "" && (scheme == "" || s.Scheme == "" || s.Scheme == scheme) {
			s.Port, taken = value, true
		}
	}
	if taken {
		r.fact("port", value)
	}
	return taken
}

func (r *reader) data(is sense, l label, value string, inline bool) bool {
	engine := r.engine(l.words + " " + value)
	if is == protocol {
		return engine != ""
	}
	if is == noSense && !isHost(value) {
		is = name
	}
	strongHost := is == host && l.strong && hostForm.MatchString(trimmed(value))
	if !strongHost && !plausible(is, l, value, inline) {
		return false
	}
	d := r.database(is)
	switch is {
	case host, noSense:
		name, port, _ := strings.Cut(strings.ToLower(trimmed(value)), ":")
		r.first("database server", &d.Host, name)
		first(&d.Port, port)
	case port:
		r.first("port of the database server", &d.Port, trimmed(value))
	case user:
		r.first("database user", &d.User, trimmed(value))
	case password:
		r.hidden("its password", &d.Password, value)
	case name:
		if isHost(value) && strings.Contains(value, ".") {
			r.first("database server", &d.Host, strings.ToLower(trimmed(value)))
		} else {
			r.first("database", &d.Name, trimmed(value))
		}
	default:
		return false
	}
	if engine != "" {
		first(&d.Engine, engine)
	}
	return true
}

// database is the one that is described: another where this has a value of its kind already.
func (r *reader) database(is sense) *Data {
	all := &r.out.Databases
	if n := len(*all); n > 0 {
		d := &(*all)[n-1]
		full := map[sense]bool{host: d.Host != "", name: d.Name != "", user: d.User != "", password: d.Password != ""}[is]
		if !full {
			return d
		}
		if is != host && is != name {
			return &Data{} // a second user or password of one database is not told apart
		}
	}
	next := Data{Engine: r.enginePending}
	if n := len(*all); n > 0 && is == name { // several on one server
		next.Engine, next.Host, next.Port = (*all)[n-1].Engine, (*all)[n-1].Host, (*all)[n-1].Port
	}
	*all = append(*all, next)
	return &(*all)[len(*all)-1]
}

func (r *reader) mail(is sense, l label, value string, inline bool) bool {
	if !plausible(is, l, value, inline) {
		return false
	}
	m := &r.out.Mail
	switch is {
	case host, noSense, name:
		if !isHost(value) {
			return false
		}
		name, port, _ := strings.Cut(strings.ToLower(trimmed(value)), ":")
		r.first("mail server", &m.Host, name)
		first(&m.Port, port)
	case port:
		r.first("port of the mail server", &m.Port, trimmed(value))
	case user:
		r.first("mail user", &m.User, trimmed(value))
	case password:
		r.hidden("its password", &m.Password, value)
	default:
		return false
	}
	return true
}

// domain takes a site's name or address, and whatever others the line lists behind it.
func (r *reader) domain(value, line string) bool {
	if !isDomain(value) {
		return false
	}
	r.addDomain(value)
	_, rest, _ := strings.Cut(line, value)
	for _, t := range tokens(rest) { // the others that it lists
		switch {
		case isDomain(t.text):
			r.addDomain(t.text)
		case !and[t.word]:
			return true
		}
	}
	return true
}

// addDomain notes a domain, and gives its number from 1.
func (r *reader) addDomain(text string) int {
	text = trimmed(text)
	d := Domain{Name: strings.ToLower(text)}
	if u, err := url.Parse(text); err == nil && u.Host != "" {
		d.Name, d.URL = strings.ToLower(u.Hostname()), text
	}
	d.Name, _, _ = strings.Cut(strings.TrimSuffix(d.Name, "/"), "/")
	d.Name, _, _ = strings.Cut(d.Name, ":")
	for i := range r.out.Domains {
		if r.out.Domains[i].Name == d.Name {
			first(&r.out.Domains[i].URL, d.URL)
			r.lastOf = i + 1
			return r.lastOf
		}
	}
	r.fact("domain", d.Name)
	r.out.Domains = append(r.out.Domains, d)
	r.lastOf = len(r.out.Domains)
	return r.lastOf
}

func (r *reader) domainNamed(text string) int { return r.addDomain(text) }

// folderOf notes the folder that a domain shows; 0 stands for the only one there will be.
func (r *reader) folderOf(of int, value string) bool {
	value = strings.TrimRight(trimmedPath(value), ".")
	if of == 0 {
		r.webFolder = value
		r.fact("folder", value)
		return true
	}
	r.fact(r.out.Domains[of-1].Name+" shows the folder", value)
	first(&r.out.Domains[of-1].Folder, value)
	return true
}

func (r *reader) panel(address string) { r.first("control panel", &r.out.Panel, address) }

// listed reads a line of a list of domains: lockside.example -> /web/lockside.
func (r *reader) listed(all []token) bool {
	if !r.domains || len(all) == 0 || !isDomain(all[0].text) {
		return false
	}
	at := r.addDomain(all[0].text)
	for _, t := range all[1:] {
		if isPath(t.text) {
			return r.folderOf(at, t.text)
		}
	}
	return true
}

// links takes servers of files that are written as addresses (RFC 3986).
func (r *reader) links(line string) (taken bool) {
	for _, text := range link.FindAllString(line, -1) {
		u, err := url.Parse(strings.TrimRight(text, ".,;)*`"))
		if err != nil || u.Host == "" || strings.HasPrefix(strings.ToLower(u.Scheme), "http") {
			continue
		}
		if !r.server(strings.ToLower(u.Scheme), u.Host) {
			continue
		}
		taken = true
		r.begin(aboutFiles)
		if u.User != nil {
			r.first("user", &r.out.User, u.User.Username())
			if given, is := u.User.Password(); is {
				r.hidden("password", &r.out.Password, given)
			}
		}
		if folder := strings.TrimSuffix(u.Path, "/"); folder != "" {
			r.first("folder", &r.out.Folder, folder)
		}
	}
	return taken
}

func first(to *string, value string) {
	if *to == "" {
		*to = value
	}
}

// first keeps the first value of its kind, and notes where it was found.
func (r *reader) first(what string, to *string, value string) {
	if *to == "" && value != "" {
		*to = value
		r.fact(what, value)
	}
}

// hidden does that for a secret.
func (r *reader) hidden(what string, to *string, value string) {
	if *to == "" && value != "" {
		*to = value
		r.secrets = append(r.secrets, value)
		r.fact(what, "")
	}
}

func (r *reader) fact(what, value string) {
	r.out.Facts = append(r.out.Facts, Fact{What: what, Value: value, Line: r.at + 1,
		Text: strings.TrimSpace(r.lines[r.at])})
}

// done gives the letter, its lines without any secret in them.
func (r *reader) done() Letter {
	if r.webFolder != "" {
		if len(r.out.Domains) == 1 {
			first(&r.out.Domains[0].Folder, r.webFolder)
		} else {
			first(&r.out.Folder, r.webFolder)
		}
	}
	for i, d := range r.out.Databases {
		if net.ParseIP(d.Host) == nil && d == (Data{Engine: d.Engine}) {
			r.out.Databases = slices.Delete(r.out.Databases, i, i+1)
			break
		}
	}
	for i := range r.out.Facts {
		for _, s := range r.secrets {
			r.out.Facts[i].Text = strings.ReplaceAll(r.out.Facts[i].Text, s, "••••")
		}
	}
	return r.out
}

// pendingEngine notes the engine of what is described, or will be.
func (r *reader) pendingEngine(of string) {
	r.enginePending = of
	if n := len(r.out.Databases); n > 0 && r.about == aboutData {
		first(&r.out.Databases[n-1].Engine, of)
	}
}
