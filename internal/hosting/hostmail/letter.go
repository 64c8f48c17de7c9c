// Package hostmail reads what a host writes to a new customer: a mail with servers, names and
// passwords in it, in whatever form and in one of some languages. It takes what it
// understands, and never guesses a value that is not written there.
package hostmail

import (
	"net/url"
	"regexp"
	"slices"
	"strings"
)

// Longest is up to how many bytes of a letter are read.
const Longest = 1 << 20

// Letter is what was understood. What is empty was not found.
type Letter struct {
	Servers  []Server // of files, in the order in which they are named
	User     string
	Password string
	Folder   string
	Domains  []string
	Data     Data
	Mail     string // the server that takes mail, host or host:port
	MailUser string
}

// Server is one that has the account's files.
type Server struct {
	Scheme string // sftp, ftps, ftp; "" where it is not said
	Host   string
	Port   string // "" for the usual one
}

// Data is a database, or the server that may have some.
type Data struct {
	Engine   string // mariadb or postgresql
	Host     string
	Port     string
	Name     string
	User     string
	Password string
}

// Empty says whether nothing was understood that helps to reach an account.
func (l Letter) Empty() bool { return len(l.Servers) == 0 && l.User == "" && l.Data == Data{} }

// topic is what a part of a letter is about.
type topic int

const (
	nothing topic = iota
	filesTopic
	dataTopic
	mailTopic
	otherTopic // a control panel, a customer's number: nothing of it is taken
)

// topics are words that say what a line or a part is about, in English, German, French,
// Spanish, Italian and Dutch.
var topics = []struct {
	is    topic
	words []string
}{
	{otherTopic, words("panel|customer|kunden|client area|espace client|invoice|rechnung|facture|imap|pop3|nameserver|" +
		"support|telefon|phone|area clienti|klant|cliente|webmail")},
	{dataTopic, words("mysql|mariadb|postgres|database|datenbank|base de donn|base de datos|dati|db")},
	{mailTopic, words("smtp|outgoing mail|postausgang|e-mail|email|mail|courrier|correo|posta")},
	{filesTopic, words("sftp|ftps|ftp|ssh|webspace|web space|files|dateien|fichiers|ficheros|archivos|bestanden|" +
		"hosting account")},
}

func words(list string) []string { return strings.Split(list, "|") }

// field is what a value is.
type field int

const (
	unknown field = iota
	hostField
	portField
	userField
	passwordField
	folderField
	nameField
	domainField
)

// fields are words that say what a value is; the first that fits counts.
var fields = []struct {
	is    field
	words []string
}{
	{passwordField, words("password|passwort|kennwort|passphrase|mot de passe|contraseña|contrasena|clave|wachtwoord|" +
		"parola d'ordine|pass")},
	{userField, words("user|login|benutzer|utilisateur|identifiant|usuario|utente|gebruiker|anmeldename")},
	{portField, words("port|puerto|porta|poort")},
	{folderField, words("document root|folder|directory|verzeichnis|pfad|ordner|dossier|répertoire|repertoire|carpeta|" +
		"directorio|cartella|percorso|map|path")},
	{domainField, words("domain|domaine|dominio|domein|website|web site|webseite|site web|sitio|sito|web address|" +
		"internetadresse")},
	{hostField, words("server|host|serveur|servidor|hôte|hote|adresse|address|dirección|indirizzo|adres")},
	{nameField, words("name|nom|nombre|nome|naam|database|datenbank|base de donn|base de datos")},
	{hostField, words("ftp|sftp|ssh|ftps|smtp|outgoing mail|mysql|mariadb|postgresql")},
}

var (
	pair  = regexp.MustCompile(`^[\s>*•·–-]*([^:=\t]{2,60}?)\s*(?::\s|:$|=|\t|\s{2,}|：)\s*(.*)$`)
	host  = regexp.MustCompile(`^(?i)([a-z0-9]([a-z0-9-]*[a-z0-9])?\.)*[a-z0-9]([a-z0-9-]*[a-z0-9])?(:[0-9]{1,5})?$`)
	plain = regexp.MustCompile(`^[0-9]{1,5}$`)
	links = regexp.MustCompile(`(?i)\b(sftp|ftps|ftp)://[^\s<>"']+`)
)

// Read understands a letter: a text, or a mail as it is saved (RFC 5322, with MIME).
func Read(text []byte) Letter {
	if len(text) > Longest {
		text = text[:Longest]
	}
	r := &reader{}
	lines := strings.Split(plainText(text), "\n")
	for i := 0; i < len(lines); i++ {
		label, value, found := split(lines[i])
		if found && value == "" && i+1 < len(lines) { // the value may stand below its label
			if next := strings.TrimSpace(lines[i+1]); next != "" && fieldOf(label) != unknown && !isPair(next) &&
				!strings.Contains(next, " ") {
				value = next
				i++
			}
		}
		switch {
		case found && value != "":
			r.take(label, value)
		case strings.TrimSpace(lines[i]) != "":
			r.heading(lines[i])
		}
	}
	for _, link := range links.FindAllString(plainText(text), -1) {
		r.link(link)
	}
	return r.out
}

func isPair(line string) bool {
	_, value, found := split(line)
	return found && value != ""
}

// split takes a line apart into a label and what stands behind it.
func split(line string) (label, value string, found bool) {
	m := pair.FindStringSubmatch(strings.TrimRight(line, " \t\r"))
	if m == nil {
		return "", "", false
	}
	return strings.ToLower(strings.TrimSpace(m[1])), strings.Trim(strings.TrimSpace(m[2]), "`\"'"), true
}

type reader struct {
	out   Letter
	about topic // of the part that one is in
}

// heading begins a part, if it says what it is about.
func (r *reader) heading(line string) {
	line = strings.ToLower(strings.TrimSpace(line))
	if t := topicOf(line); t != nothing && len(line) < 80 {
		r.about = t
		r.engine(line)
	}
}

// topicOf is what a text is about; what is none of ours comes first, so that a panel's
// password is nobody's.
func topicOf(text string) topic {
	for _, t := range topics {
		for _, w := range t.words {
			if hasWord(text, w) {
				return t.is
			}
		}
	}
	return nothing
}

// hasWord finds a word at the beginning of one of a text's words.
func hasWord(text, word string) bool {
	for at := 0; ; {
		i := strings.Index(text[at:], word)
		if i < 0 {
			return false
		}
		at += i
		if at == 0 || !isLetter(text[at-1]) {
			return true
		}
		at += len(word)
	}
}

func isLetter(b byte) bool { return b >= 'a' && b <= 'z' || b >= 0x80 }

func fieldOf(label string) field {
	for _, f := range fields {
		for _, w := range f.words {
			if hasWord(label, w) || len(w) > 4 && strings.Contains(label, w) {
				return f.is
			}
		}
	}
	return unknown
}

// take takes a value by its label, and by what the label or the part around it is about.
func (r *reader) take(label, value string) {
	about, is := topicOf(label), fieldOf(label)
	if is == domainField && about == nothing {
		r.domain(value)
		return
	}
	if about == nothing {
		about = r.about
	}
	switch about {
	case dataTopic:
		r.data(label, is, value)
	case mailTopic:
		r.mail(label, is, value)
	case filesTopic:
		r.files(label, is, value)
	}
}

func (r *reader) domain(value string) {
	if u, err := url.Parse(value); err == nil && u.Host != "" {
		value = u.Host
	}
	value = strings.ToLower(strings.TrimSuffix(value, "/"))
	if host.MatchString(value) && strings.Contains(value, ".") && !slices.Contains(r.out.Domains, value) {
		r.out.Domains = append(r.out.Domains, value)
	}
}

func first(to *string, value string) {
	if *to == "" {
		*to = value
	}
}

// schemeOf is how a label or a value says that files are reached; "" where it does not.
func schemeOf(text string) string {
	for _, s := range []string{"sftp", "ssh", "ftps", "ftp"} {
		if hasWord(text, s) {
			if s == "ssh" {
				return "sftp"
			}
			return s
		}
	}
	return ""
}

func (r *reader) files(label string, is field, value string) {
	switch is {
	case hostField, nameField:
		r.server(schemeOf(label), value)
	case portField:
		scheme := schemeOf(label)
		for i := range r.out.Servers {
			s := &r.out.Servers[i]
			if plain.MatchString(value) && s.Port == "" && (scheme == "" || s.Scheme == "" || s.Scheme == scheme) {
				s.Port = value
			}
		}
	case userField:
		first(&r.out.User, value)
	case passwordField:
		first(&r.out.Password, value)
	case folderField:
		first(&r.out.Folder, value)
	}
}

// server adds a server that is named, and completes one that is there.
func (r *reader) server(scheme, value string) {
	if at, rest, is := strings.Cut(value, "://"); is {
		scheme, value = schemeOf(strings.ToLower(at)), rest
	}
	value, _, _ = strings.Cut(strings.TrimSuffix(value, "/"), "/")
	if _, behind, is := strings.Cut(value, "@"); is {
		value = behind
	}
	value, _, _ = strings.Cut(value, " ")
	value = strings.ToLower(value)
	if !host.MatchString(value) || !strings.ContainsAny(value, ".:") && value != "localhost" {
		return
	}
	name, port, _ := strings.Cut(value, ":")
	for i := range r.out.Servers {
		if s := &r.out.Servers[i]; s.Host == name && (s.Scheme == scheme || scheme == "" || s.Scheme == "") {
			first(&s.Scheme, scheme)
			first(&s.Port, port)
			return
		}
	}
	r.out.Servers = append(r.out.Servers, Server{scheme, name, port})
}

// link takes a server that is written as an address.
func (r *reader) link(text string) {
	u, err := url.Parse(strings.TrimRight(text, ".,;)"))
	if err != nil || u.Host == "" {
		return
	}
	r.server(u.Scheme, u.Scheme+"://"+u.Host)
	if u.User != nil {
		first(&r.out.User, u.User.Username())
		if password, given := u.User.Password(); given {
			first(&r.out.Password, password)
		}
	}
}

func (r *reader) data(label string, is field, value string) {
	d := &r.out.Data
	r.engine(label + " " + strings.ToLower(value))
	switch is {
	case hostField:
		name, port, _ := strings.Cut(strings.ToLower(value), ":")
		if host.MatchString(name) && d.Host == "" {
			d.Host = name
			first(&d.Port, port)
		}
	case portField:
		if plain.MatchString(value) {
			first(&d.Port, value)
		}
	case userField:
		first(&d.User, value)
	case passwordField:
		first(&d.Password, value)
	case nameField:
		first(&d.Name, value)
	}
}

// engine notes which kind of database server a text names.
func (r *reader) engine(text string) {
	switch {
	case hasWord(text, "postgres"):
		first(&r.out.Data.Engine, "postgresql")
	case hasWord(text, "mysql"), hasWord(text, "mariadb"):
		first(&r.out.Data.Engine, "mariadb")
	}
}

func (r *reader) mail(label string, is field, value string) {
	if strings.Contains(label, "imap") || strings.Contains(label, "pop") {
		return
	}
	switch is {
	case hostField:
		if host.MatchString(strings.ToLower(value)) && strings.Contains(value, ".") {
			first(&r.out.Mail, strings.ToLower(value))
		}
	case portField:
		if plain.MatchString(value) && r.out.Mail != "" && !strings.Contains(r.out.Mail, ":") {
			r.out.Mail += ":" + value
		}
	case userField:
		first(&r.out.MailUser, value)
	}
}
