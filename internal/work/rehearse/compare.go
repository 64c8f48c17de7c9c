package rehearse

import (
	"context"
	"fmt"
	"regexp"
	"strings"
	"time"

	"tivset/internal/hosting/web"
	"tivset/internal/records/ledger"
	"tivset/internal/work"
)

// Page is a page of the site beside the same page of the copy.
type Page struct {
	Path   string `json:"path"` // below the site's address; "" is the front page
	Before Seen   `json:"before"`
	After  Seen   `json:"after"`
}

// Seen is what was seen of a page.
type Seen struct {
	Status int    `json:"status"`          // of HTTP; 0 where nothing answered
	Millis int64  `json:"milliseconds"`    // until it was there, the faster of two times
	Errors int    `json:"errors"`          // that PHP wrote into it
	Error  string `json:"error,omitempty"` // the first of them
}

const (
	mostPages = 12                     // that are compared
	slower    = 3                      // how many times as long a page may take …
	atLeast   = 500 * time.Millisecond // … before it is told, if it is this much longer
)

// phpError is what PHP writes into a page (display_errors; html_errors puts it in b).
var phpError = regexp.MustCompile(
	`(?:<b>)?(Fatal error|Parse error|Warning|Notice|Deprecated|Recoverable fatal error)(?:</b>)?: +(.{1,200}?) in (?:<b>)?\S+(?:</b>)? on line`,
)

// compare visits the site's front page and the pages that it leads to, and the same ones
// of the copy.
func (r *Rehearsed) compare(ctx context.Context, d *work.Service, x, copied ledger.Site) error {
	h, err := d.Hold(ctx, x.Address)
	if err != nil {
		return err
	}
	defer h.Close()
	visitor := h.In.Visitor()
	front, err := visitor.Get(ctx, x.URL)
	if err != nil {
		return err
	}
	paths := []string{""}
	for _, path := range front.Links(x.URL) {
		if path != "" && len(paths) < mostPages {
			paths = append(paths, path)
		}
	}
	for _, path := range paths {
		p := Page{Path: path, Before: look(ctx, visitor, x.URL+path), After: look(ctx, visitor, copied.URL+path)}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		r.Pages = append(r.Pages, p)
		if what := p.worse(); what != "" {
			r.Problems = append(r.Problems, "/"+path+" "+what)
		}
	}
	return nil
}

// look asks for a page twice.
func look(ctx context.Context, v *web.Visitor, address string) (out Seen) {
	for n := range 2 {
		begun := time.Now()
		page, err := v.Get(ctx, address)
		took := time.Since(begun).Milliseconds()
		if err != nil {
			return Seen{Error: err.Error()}
		}
		if n == 0 || took < out.Millis {
			out.Millis = took
		}
		found := phpError.FindAllStringSubmatch(string(page.Body), -1)
		out.Status, out.Errors = page.Status, len(found)
		if len(found) > 0 {
			out.Error = found[0][1] + ": " + strings.TrimSpace(found[0][2])
		}
	}
	return out
}

// worse says in which way the copy's page is worse; "" when it is not.
func (p Page) worse() string {
	longer := time.Duration(p.After.Millis-p.Before.Millis) * time.Millisecond
	switch {
	case p.Before.Status == 0:
		return ""
	case p.After.Status == 0:
		return "does not answer: " + p.After.Error
	case p.After.Status >= 400 && p.Before.Status < 400:
		return fmt.Sprintf("answers %d, and %d now", p.After.Status, p.Before.Status)
	case p.After.Errors > p.Before.Errors:
		return "shows an error of PHP: " + p.After.Error
	case p.After.Millis > slower*p.Before.Millis && longer > atLeast:
		return fmt.Sprintf("takes %d ms, and %d ms now", p.After.Millis, p.Before.Millis)
	}
	return ""
}
