// Package handover makes the page that whoever a site is for is given: all that one has to
// know of it, to print or to mail. It asks no server.
package handover

import (
	"bytes"
	"cmp"
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// Page is what there is to know of one site.
type Page struct {
	Title, URL, AdminURL string
	Name                 string
	Password             secret.Text // empty: how to get one is said in its place
	What                 string      // the app, its release, since when
	Care                 string      // how it is looked after
	Ask                  string      // whom to ask
	Backup               string
	Timers               []string // what is left to set up
	Made                 time.Time
}

// From is what a page is made of.
type From struct {
	Record   ledger.Site
	Site     *site.Site // as its kit has it; nil where the kit is not at hand
	Password secret.Text
	By       string // who looks after it
	Ask      string // whom to text: an address; By when it is empty
	Told     bool   // its account can send mails
	Idle     bool   // nothing does by itself what its care says
	Now      time.Time
}

// Of makes the page of a site.
func Of(f From) Page {
	x := f.Record
	p := Page{
		Title:    x.Title,
		URL:      x.URL,
		AdminURL: x.AdminURL,
		Name:     x.Admin.Name,
		Password: f.Password,
		Ask:      cmp.Or(f.Ask, f.By),
		What:     x.App + " " + x.Release,
		Made:     f.Now,
		Backup:   "none yet",
	}
	if f.Site != nil {
		p.What = f.Site.Kit.Title + " " + x.Release
		if _, left, err := f.Site.TimersLeft(f.Now); err == nil {
			p.Timers = left
		}
	}
	p.What += ", there since " + x.InstalledAt.Format(time.DateOnly)
	does := ". The site "
	if f.Idle {
		does = ". Once maintenance is switched on, which it is not yet, the site "
	}
	p.Care = "by " + f.By + does + x.Care.Sentence(f.Told, x.Admin.Email) + ". A backup is made before each " +
		"update, and what does not work is put back"
	if x.LastBackupAt != nil {
		p.Backup = "the last one is of " + x.LastBackupAt.Format("2006-01-02 15:04") + " UTC"
	}
	return p
}

// PasswordText is the password, or how to get one.
func (p Page) PasswordText() string {
	if word := p.Password.Reveal(); word != "" {
		return word
	}
	return "not on this page. Whoever looks after the site can tell it to you, or have a new one made"
}

// lines are what the page says, in order.
func (p Page) lines() [][2]string {
	out := [][2]string{{"Address", p.URL}, {"To work on it", p.AdminURL}, {"Sign in as", p.Name},
		{"Password", p.PasswordText()},
		{"To change the password", "sign in, and change it in the app; then tell whoever looks after the site that it is " +
			"another"},
		{"Installed", p.What}, {"Looked after", p.Care}, {"Backups", p.Backup}}
	for _, t := range p.Timers {
		out = append(out, [2]string{"Left to set up", t})
	}
	return append(out, [2]string{"Whom to ask", p.Ask})
}

// Text writes pages as plain text.
func Text(pages ...Page) string {
	var b strings.Builder
	for i, p := range pages {
		if i > 0 {
			b.WriteString("\n\n")
		}
		fmt.Fprintf(&b, "%s\n%s\n\n", p.Title, strings.Repeat("=", len([]rune(p.Title))))
		for _, l := range p.lines() {
			fmt.Fprintf(&b, "%s:\n    %s\n", l[0], l[1])
		}
		fmt.Fprintf(&b, "\nWritten on %s.\n", p.Made.Format(time.DateOnly))
	}
	return b.String()
}

//go:embed page.html
var pageHTML string

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"lines": Page.lines,
	"link": func(text string) bool {
		return strings.HasPrefix(text, "http://") || strings.HasPrefix(text, "https://")
	},
	"day": func(t time.Time) string { return t.Format(time.DateOnly) },
}).Parse(pageHTML))

// HTML writes pages as one document that needs nothing else, a printed page for each.
func HTML(pages ...Page) ([]byte, error) {
	var b bytes.Buffer
	err := page.Execute(&b, pages)
	return b.Bytes(), err
}
