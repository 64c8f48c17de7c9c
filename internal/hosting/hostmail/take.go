package hostmail

import (
	"net"
	"net/url"
	"slices"
	"strings"
)

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
		r.firstAt("database server", &d.Host, &d.Port, name, port)
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
		r.firstAt("mail server", &m.Host, &m.Port, name, port)
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

// firstAt does that for a server and its port.
func (r *reader) firstAt(what string, host, to *string, name, port string) {
	if *host == "" {
		*host = name
		r.fact(what, joinedPort(name, port))
	}
	first(to, port)
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
