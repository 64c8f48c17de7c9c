// Package web fetches pages as a visitor's browser does: with cookies, forms
// and redirects, and with a name-to-address override for domains that do not
// resolve yet. Every call has a deadline and takes a bounded amount.
package web

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"tivset/internal/logs"
)

// Limits of one visit.
const (
	dialTime   = 10 * time.Second
	largest    = 4 << 20 // bytes of a page that are read
	redirects  = 10
	agentTitle = "Tivset"
)

// Visitor is one browser: its cookies last as long as it does.
type Visitor struct {
	Agent   string // how the browser calls itself; "" for the program's own name
	Crowded func() // is told each time a server has too many visits; may be nil

	client *http.Client
	got    *cookies
}

// cookies are those that servers have set, whole: a jar gives only their names
// and values.
type cookies struct {
	through http.RoundTripper
	mu      sync.Mutex
	all     []*http.Cookie
}

// RoundTrip implements http.RoundTripper.
func (c *cookies) RoundTrip(r *http.Request) (*http.Response, error) {
	answer, err := c.through.RoundTrip(shown(r))
	if err != nil {
		return nil, err
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, set := range answer.Cookies() {
		if set.Path == "" { // RFC 6265, 5.1.4
			set.Path = path.Dir(cmp.Or(r.URL.Path, "/"))
			if strings.HasSuffix(r.URL.Path, "/") {
				set.Path = cmp.Or(strings.TrimSuffix(r.URL.Path, "/"), "/")
			}
		}
		c.all = slices.DeleteFunc(c.all, func(old *http.Cookie) bool {
			return old.Name == set.Name && old.Path == set.Path && old.Domain == set.Domain
		})
		if set.MaxAge >= 0 && set.Value != "" {
			c.all = append(c.all, set)
		}
	}
	return answer, nil
}

// Cookies lists the cookies that the visitor was given and not rid of, in the
// order in which they came.
func (v *Visitor) Cookies() []*http.Cookie {
	v.got.mu.Lock()
	defer v.got.mu.Unlock()
	return slices.Clone(v.got.all)
}

// Connections says where to find hosts: "host:port" to "address:port".
type Connections map[string]string

// NewVisitor makes a visitor without cookies. Only hosts of the first address
// of a visit are followed in redirects.
func NewVisitor(connections Connections) *Visitor {
	jar, _ := cookiejar.New(nil) // never errs without options
	dialer := &net.Dialer{Timeout: dialTime}
	transport := &http.Transport{
		DialContext: func(ctx context.Context, network, address string) (net.Conn, error) {
			if to, ok := connections[address]; ok {
				address = to
			}
			return dialer.DialContext(ctx, network, address)
		},
		DisableKeepAlives: true, // a check wants to know the server as a newcomer does
	}
	v := &Visitor{}
	v.got = &cookies{through: unhurried{&limited{patient{transport}, connections}, v}}
	v.client = &http.Client{Transport: v.got, Jar: jar, CheckRedirect: stayHere}
	return v
}

// stayHere keeps what a visitor carries from being sent to other hosts, or to the same one in clear where it was
// encrypted.
func stayHere(next *http.Request, before []*http.Request) error {
	if len(before) > redirects {
		return fmt.Errorf("more than %d redirects", redirects)
	}
	if next.URL.Host != before[0].URL.Host || inClear(before[len(before)-1].URL, next.URL) {
		return http.ErrUseLastResponse
	}
	return nil
}

// inClear says whether a way leads from an encrypted address to one that is not.
func inClear(from, to *url.URL) bool { return from.Scheme == "https" && to.Scheme != "https" }

// Page is what a server answered.
type Page struct {
	URL    *url.URL // after redirects
	Status int
	Body   []byte
	Away   string // where a redirect to another host led, if there was one
}

// ErrTooLarge means that a page went on beyond what is read.
var ErrTooLarge = errors.New("the page has more than 4 MB")

// Get fetches a page.
func (v *Visitor) Get(ctx context.Context, address string) (*Page, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	return v.visit(r)
}

// LeadsTo asks an address and follows nothing: where it leads to, "" where it leads
// nowhere, and what it answers.
func (v *Visitor) LeadsTo(ctx context.Context, address string) (to string, body []byte, err error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return "", nil, err
	}
	still := *v.client
	still.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	page, err := (&Visitor{Agent: v.Agent, client: &still, got: v.got}).visit(r)
	if err != nil {
		return "", nil, err
	}
	return page.Away, page.Body, nil
}

// Peek fetches how a page begins: at most so many bytes of it, however long it is.
func (v *Visitor) Peek(ctx context.Context, address string, most int64) (*Page, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, err
	}
	return v.visitUpTo(r, most, false)
}

// Post sends a form.
func (v *Visitor) Post(ctx context.Context, address string, fields url.Values) (*Page, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, strings.NewReader(fields.Encode()))
	if err != nil {
		return nil, err
	}
	r.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	return v.visit(r)
}

// Send posts a body that is no form, with a header of its own.
func (v *Visitor) Send(ctx context.Context, address, header, value string, body []byte) (*Page, error) {
	r, err := http.NewRequestWithContext(ctx, http.MethodPost, address, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	r.Header.Set(header, value)
	r.Header.Set("Content-Type", "application/octet-stream") // which PHP leaves alone
	return v.visit(r)
}

func (v *Visitor) visit(r *http.Request) (*Page, error) { return v.visitUpTo(r, largest, true) }

// asked notes what was asked of the web, without what stands after the question mark, which may be a secret.
func asked(r *http.Request, page **Page) func(*error) {
	at := *r.URL
	at.RawQuery, at.User, at.Fragment = "", nil, ""
	status := []string{r.Method + " " + at.String()}
	ended := logs.Asked(r.Context(), "web", "visit", status...)
	return func(err *error) {
		if *page != nil {
			status[0] += fmt.Sprintf(" answers %d with %d bytes", (*page).Status, len((*page).Body))
		}
		ended(err)
	}
}

// visitUpTo reads so many bytes of an answer. One that goes on is an error where
// it is wanted whole.
func (v *Visitor) visitUpTo(r *http.Request, most int64, whole bool) (page *Page, err error) {
	defer asked(r, &page)(&err)
	r.Header.Set("User-Agent", cmp.Or(v.Agent, agentTitle))
	answer, err := v.client.Do(r)
	if err != nil {
		return nil, plain(err)
	}
	defer answer.Body.Close()
	body, err := io.ReadAll(io.LimitReader(answer.Body, most+1))
	if err != nil {
		return nil, plain(err)
	}
	if int64(len(body)) > most {
		if whole {
			return nil, ErrTooLarge
		}
		body = body[:most]
	}
	p := &Page{URL: answer.Request.URL, Status: answer.StatusCode, Body: body}
	if p.Status/100 == 3 {
		p.Away = answer.Header.Get("Location")
	}
	return p, nil
}

// plain leaves the address out of an error: callers name it, and addresses may
// hold what is not for logs.
func plain(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		var slow *Slow
		if u.Timeout() && !errors.As(err, &slow) {
			return fmt.Errorf("no connection within %s", dialTime)
		}
		return u.Err
	}
	return err
}
