package redirect

import (
	"encoding/json"
	"fmt"
	"html"
	"net/url"
	"path"
	"regexp"
	"strings"

	"tivset/internal/hosting/runtime"
	"tivset/internal/records/ledger"
)

// sign is in every file of a redirect: by it they are known again.
const sign = "tivset-redirect"

// rules is the file of a folder's own rules (Apache manual, AccessFileName).
const rules = ".htaccess"

// remembered is for how long browsers may keep to a redirect, in seconds: without
// an end they would for ever, also when the address has another site again
// (RFC 9110, 15.4.2).
const remembered = 3600

// page is one that leads elsewhere with the path and the query that it was asked for, in the place of the one that had
// this name; "" for a name of no page.
func page(of runtime.Set, name string, r *ledger.Redirect) string {
	if end := path.Ext(name); end == ".html" || end == ".htm" {
		return htmlPage(r)
	}
	if runs := of.Of(name); runs != nil {
		return runs.Moved(runtime.Moved{From: from(r), To: r.To, Sign: sign, MaxAge: remembered})
	}
	return ""
}

// htmlPage leads there without a server's help; with the query where scripts run.
func htmlPage(r *ledger.Redirect) string {
	address := html.EscapeString(r.To)
	begins, _ := json.Marshal(from(r)) // with < and > as escapes, as a script in a page wants them
	to, _ := json.Marshal(r.To)
	return `<!doctype html><html lang="en"><meta charset="utf-8"><meta name="` + sign + `">` +
		`<meta http-equiv="refresh" content="1; url=` + address + `"><link rel="canonical" href="` + address + `">` +
		"<title>Moved</title><script>\nvar from = " + string(begins) + ", asked = location.pathname;\nlocation.replace(" +
		string(to) + " + (asked.indexOf(from) ? '' : asked.slice(from.length)) + location.search + location.hash);\n" +
		`</script><p>This site has moved to <a href="` + address + `">` + address + "</a>.</p></html>\n"
}

// ruleText is a rule for every address of the redirect but those of what lies
// there besides, now (others) or later (Apache manual, mod_rewrite; where that is
// not loaded, mod_alias, which cannot look at what is there). Own are the names
// that the redirect itself has there. A plain one says nothing but where to go:
// some hosts allow only that.
func ruleText(r *ledger.Redirect, own, others []string, plain bool) string {
	spared := []string{`\.well-known`}
	for _, name := range others {
		if name != ".well-known" {
			spared = append(spared, pattern(name))
		}
	}
	if to, inside := strings.CutPrefix(r.To, r.URL); inside { // into its own folder: else it would go round in a circle
		first, _, _ := strings.Cut(to, "/")
		spared = append(spared, pattern(decoded(first)))
	}
	but := "(?!(?:" + strings.Join(spared, "|") + ")(?:/|$))"
	var ours []string
	for _, name := range own {
		ours = append(ours, pattern(name))
	}
	at := decoded(from(r))
	limit := fmt.Sprintf("<IfModule mod_headers.c>\nHeader always set Cache-Control \"max-age=%d\" "+
		"\"expr=%%{REQUEST_STATUS} == 301\"\n</IfModule>\n", remembered)
	if plain {
		limit = ""
	}
	return fmt.Sprintf(`# %[1]s: the site has moved
%[2]s<IfModule mod_rewrite.c>
RewriteEngine On
RewriteRule "^((?:%[3]s)(?:/.*)?)?$" "%[6]s$1" [R=301,L]
RewriteCond "%%{DOCUMENT_ROOT}%[4]s$1" !-f
RewriteCond "%%{DOCUMENT_ROOT}%[4]s$1" !-d
RewriteRule "^%[5]s([^/]*)(.*)$" "%[6]s$1$2" [R=301,L]
</IfModule>
<IfModule !mod_rewrite.c>
RedirectMatch 301 "^%[7]s%[5]s(.*)$" "%[6]s$1"
</IfModule>
`, sign, limit, strings.Join(ours, "|"), literal(at), but, literal(decoded(r.To)), pattern(at))
}

// literal is a text as the server's rules take it for itself.
func literal(text string) string {
	return strings.NewReplacer("%", `\%`, "$", `\$`, `"`, `\"`).Replace(text)
}

// pattern is the pattern of a text.
func pattern(text string) string { return strings.ReplaceAll(regexp.QuoteMeta(text), `"`, `\x22`) }

// decoded is an address as a server's rules see it.
func decoded(address string) string {
	if plain, err := url.PathUnescape(address); err == nil {
		return plain
	}
	return address
}

// from is the path of the redirect's address, as browsers ask for it.
func from(r *ledger.Redirect) string {
	at, err := url.Parse(r.URL)
	if err != nil {
		return "/"
	}
	return at.EscapedPath()
}
