package pages

import (
	"bytes"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"fmt"
	"html/template"
	"io/fs"
	"net/http"
	"path"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/bcrypt"
)

// functions are what a page can use.
func (p *running) functions() template.FuncMap {
	return template.FuncMap{
		"config":   p.config,   // config PATH: a configuration file's values by name
		"exists":   p.exists,   // exists PATH: whether a file is there
		"include":  p.include,  // include PATH DATA: another page's output
		"database": p.database, // database SERVER PORT NAME USER PASSWORD: a connection
		"posted":   func() bool { return p.r.Method == http.MethodPost },
		"post":     func(name string) string { return p.r.PostForm.Get(name) },
		"get":      func(name string) string { return p.r.URL.Query().Get(name) },
		"session":  func(name string) string { return p.session.get(name) },
		"remember": func(name, value string) string { p.session.set(name, value); return "" },
		"forget":   func() string { p.session.clear(); return "" },
		"token":    p.token,      // a hidden field that belongs to the session
		"verify":   p.verify,     // stops unless the form carries that token
		"redirect": p.redirect,   // redirect PATH: stops and leads there
		"moved":    p.moved,      // moved FROM TO: stops and leads to the same path and query at another address
		"fail":     p.fail,       // fail STATUS TEXT: stops
		"admit":    p.admit,      // admit HASH COOKIES ADDRESS: gives cookies to who posts the half with this hash, once
		"closed":   p.closed,     // closed SECONDS: the page comes with 503, to be asked for again then
		"guard":    p.guard,      // guard COOKIE HASH SECONDS HTML: as closed, and stops, unless the cookie has this hash
		"base":     p.base,       // base UP: the address path UP folders above the page's
		"hash":     hashPassword, // hash PASSWORD
		"matches": func(password, hash string) bool {
			return bcrypt.CompareHashAndPassword([]byte(hash), []byte(password)) == nil
		},
		"dict":       dict,
		"atLeast":    atLeast,
		"keep":       p.keep, // keep FOLDER NAME TEXT: writes a file outside of the web
		"kept":       p.kept, // kept FOLDER: the names of the files there
		"day":        day,
		"excerpt":    excerpt,
		"paragraphs": paragraphs,
		"trim":       strings.TrimSpace,
		"initial":    func(s string) string { return string([]rune(s + "?")[:1]) },
		"now":        func() string { return time.Now().UTC().Format(time.DateTime) },
	}
}

func (p *running) config(name string) (map[string]string, error) {
	full, err := p.inside(name)
	if err != nil {
		return nil, err
	}
	text, err := p.root.ReadFile(full)
	if err != nil {
		return nil, &stop{status: http.StatusServiceUnavailable, text: "This site is not set up yet."}
	}
	read, known := readers[path.Ext(full)]
	if !known {
		return nil, fmt.Errorf("no configuration format for %s", name)
	}
	return read(string(text))
}

func (p *running) exists(name string) bool {
	full, err := p.inside(name)
	if err != nil {
		return false
	}
	_, err = p.root.Stat(full)
	return err == nil
}

func (p *running) include(name string, data any) (template.HTML, error) {
	full, err := p.inside(name)
	if err != nil {
		return "", err
	}
	var out bytes.Buffer
	err = p.run(full, data, &out)
	return template.HTML(out.String()), err
}

func (p *running) token() template.HTML {
	return template.HTML(`<input type="hidden" name="token" value="` + p.session.token() + `">`)
}

func (p *running) verify() (string, error) {
	if p.r.PostForm.Get("token") != p.session.token() {
		return "", &stop{status: http.StatusForbidden, text: "The form has expired. Go back and load it again."}
	}
	return "", nil
}

func (p *running) redirect(to string) (string, error) {
	return "", &stop{status: http.StatusSeeOther, to: to}
}

// moved leads to the same page of another address (RFC 9110, 15.4.2).
func (p *running) moved(from, to string) (string, error) {
	rest, below := strings.CutPrefix(p.r.RequestURI, from)
	if !below {
		rest = ""
	}
	return "", &stop{status: http.StatusMovedPermanently, to: to + rest}
}

func (p *running) fail(status int, text string) (string, error) {
	return "", &stop{status: status, text: text}
}

// closed has the page answer that it is not for now (RFC 9110, 15.6.4).
func (p *running) closed(seconds int) string {
	p.w.Header().Set("Retry-After", strconv.Itoa(seconds))
	p.status = http.StatusServiceUnavailable
	return ""
}

// guard answers who does not bring a cookie with this SHA-256 as closed does, with a text.
func (p *running) guard(cookie, hash string, seconds int, text string) (string, error) {
	brought, err := p.r.Cookie(cookie)
	if err == nil {
		sum := sha256.Sum256([]byte(brought.Value))
		if subtle.ConstantTimeCompare([]byte(hex.EncodeToString(sum[:])), []byte(hash)) == 1 {
			return "", nil
		}
	}
	p.w.Header().Set("Retry-After", strconv.Itoa(seconds))
	return "", &stop{status: http.StatusServiceUnavailable, html: text}
}

// base gives the address path of the folder that lies up folders above.
func (p *running) base(up int) string {
	folder := p.folder
	for range up {
		folder = path.Dir(folder)
	}
	if folder == "." {
		return "/"
	}
	return "/" + folder + "/"
}

// hashCost is the work factor of the apps' hashes.
var hashCost = bcrypt.DefaultCost

// CheapHashes lowers it as far as it goes, for tests that make hundreds of sites.
func CheapHashes() { hashCost = bcrypt.MinCost }

func hashPassword(password string) (string, error) {
	h, err := bcrypt.GenerateFromPassword([]byte(password), hashCost)
	return string(h), err
}

func dict(pairs ...any) (map[string]any, error) {
	if len(pairs)%2 != 0 {
		return nil, fmt.Errorf("dict takes names and values in turn")
	}
	out := map[string]any{}
	for i := 0; i < len(pairs); i += 2 {
		name, ok := pairs[i].(string)
		if !ok {
			return nil, fmt.Errorf("dict: %v is not a name", pairs[i])
		}
		out[name] = pairs[i+1]
	}
	return out, nil
}

// day writes a date of the database for readers.
func day(s string) string {
	for _, form := range []string{time.DateTime, time.RFC3339, time.DateOnly} {
		if t, err := time.Parse(form, s); err == nil {
			return t.Format("2 January 2006")
		}
	}
	return s
}

func excerpt(s string, words int) string {
	all := strings.Fields(s)
	if len(all) <= words {
		return strings.Join(all, " ")
	}
	return strings.Join(all[:words], " ") + " …"
}

// paragraphs makes paragraphs of a text with empty lines between them.
func paragraphs(s string) template.HTML {
	var out strings.Builder
	for _, p := range strings.Split(strings.ReplaceAll(s, "\r\n", "\n"), "\n\n") {
		if p = strings.TrimSpace(p); p != "" {
			out.WriteString("<p>" + strings.ReplaceAll(template.HTMLEscapeString(p), "\n", "<br>") + "</p>\n")
		}
	}
	return template.HTML(out.String())
}

// script reads an SQL file of the app.
func (p *running) script(name string) (string, error) {
	full, err := p.inside(name)
	if err != nil {
		return "", err
	}
	text, err := fs.ReadFile(p.root.FS(), full)
	return string(text), err
}
