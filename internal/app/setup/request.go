package setup

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/web"

	"github.com/PuerkitoBio/goquery"
)

// Request fetches a page or sends a form, and judges the answer.
func (r *Runner) Request(ctx context.Context, q kit.Request) error {
	fields, err := r.fillAll(q.Fields)
	if err != nil {
		return err
	}
	below, err := fill.Text(q.Get+q.Post, r.Values)
	if err != nil {
		return err
	}
	if q.Form == "page" {
		if err := r.sendForm(ctx, fields, below); err != nil {
			return err
		}
		return r.judge(r.page, q.Expect)
	}
	address := r.Address(below)
	if q.Get != "" {
		r.page, err = r.Visitor.Get(ctx, address)
	} else {
		values := url.Values{}
		for name, v := range fields {
			values.Set(name, v)
		}
		r.page, err = r.Visitor.Post(ctx, address, values)
	}
	if err != nil {
		return fault.New(fault.Failed, "the app did not answer", address, LookAtServer).Wrap(err)
	}
	return r.judge(r.page, q.Expect)
}

// passOn is what to do where a server keeps an app's addresses to itself.
const passOn = "The server has to pass the app's addresses on to it. Ask the host to do so for this folder: with " +
	"Apache, AllowOverride All and mod_rewrite; with nginx, try_files that ends with the folder's index.php."

// LookAtServer is the remedy where a page of the app fails.
const LookAtServer = "Open the address in a browser and look at the server's error log."

// sendForm sends the form of the page got last.
func (r *Runner) sendForm(ctx context.Context, fields map[string]string, to string) error {
	if r.page == nil {
		return fault.New(fault.Failed, "a form is to be sent and no page was fetched before", r.Base,
			"The kit needs a request with get first.")
	}
	answer, err := r.send(ctx, r.page, fields, to)
	if err != nil {
		return fault.New(fault.Failed, "a form of the app could not be sent", r.page.URL.Redacted(),
			LookAtServer).Wrap(err)
	}
	r.page = answer
	return nil
}

// Address is that of a page below the app's.
func (r *Runner) Address(below string) string { return r.Base + strings.TrimPrefix(below, "/") }

// send fills in and sends the form of a page.
func (r *Runner) send(ctx context.Context, p *web.Page, fields map[string]string, to string) (*web.Page, error) {
	names := make([]string, 0, len(fields))
	for n := range fields {
		names = append(names, n)
	}
	slices.Sort(names)
	form, err := p.Form(names)
	if err != nil {
		return nil, err
	}
	for n, v := range fields {
		form.Values.Set(n, v)
	}
	if to != "" {
		form.Action = r.Address(to)
	}
	if err := p.MaySend(form.Action); err != nil {
		return nil, err
	}
	if form.Method != http.MethodPost {
		return nil, fmt.Errorf("the form is not sent by POST, which would put the password into addresses")
	}
	return r.Visitor.Post(ctx, form.Action, form.Values)
}

// judge compares an answer with what the kit expects.
func (r *Runner) judge(p *web.Page, e kit.Expect) error {
	status := e.Status
	if status == 0 {
		status = http.StatusOK
	}
	wrong := func(what string) *fault.Error {
		return &fault.Error{Kind: fault.Failed, What: what, Where: p.URL.Redacted(), Details: r.excerpt(p),
			Remedy: LookAtServer}
	}
	if to, err := p.URL.Parse(p.Away); p.Away != "" && err == nil && to.Host == p.URL.Host {
		return wrong("the page leads on to an address that is not encrypted: " + p.Away)
	}
	if p.Away != "" {
		return wrong("the page leads to another host: " + p.Away)
	}
	if p.Status != status {
		err := wrong(fmt.Sprintf("the page answered %d instead of %d", p.Status, status))
		if r.Rewriting && p.Status == http.StatusNotFound {
			err.Remedy = passOn
		}
		return err
	}
	text, err := fill.Text(e.Text, r.Values)
	if err != nil {
		return err
	}
	if text != "" && !p.Shows(text) {
		return wrong(fmt.Sprintf("the page does not show “%s”", r.redact(text)))
	}
	not, err := fill.Text(e.NotText, r.Values)
	if err != nil {
		return err
	}
	if not != "" && p.Shows(not) {
		return wrong(fmt.Sprintf("the page shows “%s”", r.redact(not)))
	}
	return nil
}

// excerpt gives the first words of a page, without anything secret.
func (r *Runner) excerpt(p *web.Page) []string {
	doc, err := goquery.NewDocumentFromReader(strings.NewReader(string(p.Body)))
	if err != nil {
		return nil
	}
	doc.Find("head, script, style").Remove()
	words := strings.Join(strings.Fields(doc.Text()), " ")
	if words == "" {
		return nil
	}
	if runes := []rune(words); len(runes) > 200 {
		words = string(runes[:200]) + " …"
	}
	return []string{"the page says: " + r.redact(words)}
}
