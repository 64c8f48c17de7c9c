package draft

import (
	"path"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// Form is a form of one of the app's pages.
type Form struct {
	File   string
	Fields []string // those that a person fills in, in order
	Secret string   // the name of its first password, or empty
}

var (
	setUpName = lazily(`(?i)(^|/)_?(install(er|ation)?|set-?up|wizard)(/|[^/]*\.php$)`)
	signName  = lazily(`(?i)(log-?in|sign-?in|auth|session)`)
	pages     = lazily(`(?i)\.(php\d?|inc|phtml|html?|tpl|twig)$`)
	hasSecret = lazily(`(?i)type\s*=\s*\\?["']?password`)
	phpParts  = lazily(`(?s)<\?(?:php|=).*?(\?>|\z)`)
)

// SetUpPages lists what of the app sets it up, by its pages: each with the forms in it.
// Names are those of what the web is asked for, a folder where its index does it.
func (a *App) SetUpPages() (page string, forms []Form) {
	var all []string
	for _, name := range a.own(php) {
		if setUpName.MatchString(name) && strings.Count(name, "/") <= 2 {
			all = append(all, name)
		}
	}
	if len(all) == 0 {
		return "", nil
	}
	page = all[0]
	for _, name := range all {
		if base := path.Base(name); base == "index.php" && path.Dir(name) != "." {
			page = path.Dir(name) + "/"
			break
		}
	}
	for _, name := range all {
		forms = append(forms, a.formsIn(name)...)
	}
	return page, forms
}

// SetUpParts are the files and folders that only the set-up needs.
func (a *App) SetUpParts() []string {
	var out []string
	for _, name := range a.own(php) {
		at := setUpName.FindStringIndex(name)
		if at == nil || strings.Count(name, "/") > 2 {
			continue
		}
		part := name
		if strings.HasSuffix(name[:at[1]], "/") {
			part = strings.TrimSuffix(name[:at[1]], "/")
		}
		if !slices.Contains(out, part) {
			out = append(out, part)
		}
	}
	return out
}

// SignIn finds the form by which people sign in; nil when none is found.
func (a *App) SignIn() *Form {
	var best *Form
	rate := -100
	for _, name := range a.own(pages) {
		if setUpName.MatchString(name) || !hasSecret.MatchString(a.text(name)) {
			continue
		}
		for _, f := range a.formsIn(name) {
			r := -strings.Count(name, "/") - 2*abs(len(f.Fields)-2)
			if signName.MatchString(path.Base(name)) {
				r += 8
			}
			if f.Secret != "" && r > rate {
				best, rate = &f, r
			}
		}
	}
	return best
}

func abs(n int) int { return max(n, -n) }

// formsIn reads the forms of a page's file: its HTML, as far as it stands there as such.
func (a *App) formsIn(name string) []Form {
	text := strings.ReplaceAll(phpParts.ReplaceAllString(a.text(name), " "), `\"`, `"`)
	if !strings.Contains(strings.ToLower(text), "<form") {
		text = strings.ReplaceAll(a.text(name), `\"`, `"`) // a program that prints it
	}
	var out []Form
	for _, piece := range formEnd.Split(text, -1) { // programs print many, and seldom whole
		at := strings.LastIndex(strings.ToLower(piece), "<form")
		if at < 0 {
			continue
		}
		doc, err := goquery.NewDocumentFromReader(strings.NewReader(piece[at:]))
		if err != nil {
			continue
		}
		f := Form{File: name}
		doc.Find("input, select, textarea").Each(func(_ int, in *goquery.Selection) { f.see(in) })
		if len(f.Fields) > 0 {
			out = append(out, f)
		}
	}
	return out
}

var formEnd = lazily(`(?i)</form`)

// see takes a field into the form.
func (f *Form) see(in *goquery.Selection) {
	field, kind := in.AttrOr("name", ""), strings.ToLower(in.AttrOr("type", "text"))
	if field == "" || strings.ContainsAny(field, "<$ ") || slices.Contains(unfilled, kind) ||
		slices.Contains(f.Fields, field) {
		return
	}
	f.Fields = append(f.Fields, field)
	if kind == "password" && f.Secret == "" {
		f.Secret = field
	}
}

// unfilled are inputs that nobody types into.
var unfilled = []string{"hidden", "submit", "button", "reset", "image", "checkbox", "radio", "file"}

// SignedIn is a word that only pages of somebody signed in have, as far as the names of
// the app's own addresses tell; empty when none is found.
func (a *App) SignedIn() string {
	counts := map[string]int{}
	for _, name := range a.own(pages) {
		for _, word := range []string{"logout", "log_out", "logoff", "signout", "sign_out"} {
			if strings.Contains(a.text(name), word) {
				counts[word]++
			}
		}
	}
	best := ""
	for word, n := range counts {
		if n > counts[best] || n == counts[best] && word < best {
			best = word
		}
	}
	return best
}
