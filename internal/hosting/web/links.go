package web

import (
	"bytes"
	"net/url"
	"strings"

	"github.com/PuerkitoBio/goquery"
)

// Links lists the pages that a page leads to by its links (the HTML element a) and that lie
// below an address, as they continue that address, each once, without fragments. What
// has a query is left out: behind it may be an action.
func (p *Page) Links(below string) []string {
	base, err := url.Parse(below)
	if err != nil {
		return nil
	}
	document, err := goquery.NewDocumentFromReader(bytes.NewReader(p.Body))
	if err != nil {
		return nil
	}
	var out []string
	seen := map[string]bool{}
	document.Find("a[href]").Each(func(_ int, a *goquery.Selection) {
		href, _ := a.Attr("href")
		to, err := p.URL.Parse(strings.TrimSpace(href))
		if err != nil || to.Host != base.Host || to.RawQuery != "" || !strings.HasPrefix(to.Path, base.Path) {
			return
		}
		rest := strings.TrimPrefix(to.EscapedPath(), base.EscapedPath())
		if !seen[rest] {
			seen[rest] = true
			out = append(out, rest)
		}
	})
	return out
}
