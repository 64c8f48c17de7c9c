// Package setup carries out what a kit says: the steps of an app's set-up, and
// the visits that show whether it works.
package setup

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"slices"
	"strings"

	"github.com/PuerkitoBio/goquery"

	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
)

// Runner carries out steps for one app that lies in Folder.
type Runner struct {
	Files   files.FS
	Folder  string // where the app's files are, from the account's top
	PHP     string // the account's PHP for the command line, or ""
	Data    database.Session
	Visitor *web.Visitor
	Base    string // the address at which the app's pages answer, with final slash
	Values  fill.Values
	Secrets []string // what no message may hold

	page *web.Page // the page got last
}

// Do carries out one step of a kit's set-up.
func (r *Runner) Do(ctx context.Context, s kit.Step) error {
	switch {
	case s.SQL != nil:
		return r.script(ctx, *s.SQL)
	case s.RunSQL != "":
		return r.statement(ctx, s.RunSQL, s.With)
	case s.Request != nil:
		return r.Request(ctx, *s.Request)
	case len(s.Command) > 0:
		return r.command(ctx, s)
	}
	for _, name := range s.Remove {
		if err := files.RemoveAll(ctx, r.Files, path.Join(r.Folder, path.Clean(name))); err != nil {
			return err
		}
	}
	return nil
}

// command runs a program of the account's in the app's folder.
func (r *Runner) command(ctx context.Context, s kit.Step) error {
	commander, ok := r.Files.(files.Commander)
	if !ok || r.PHP == "" {
		return fault.New(fault.Failed, "the set-up runs a program, and the account's files are reached without commands",
			s.Command[0], "Reach the account over SSH with a shell, and name its php: runtime: {php: …}.")
	}
	words := []string{r.PHP}
	for _, w := range s.Command[1:] {
		filled, err := fill.Text(w, r.Values)
		if err != nil {
			return err
		}
		words = append(words, filled)
	}
	input, err := fill.Text(s.Input, r.Values)
	if err != nil {
		return err
	}
	limited, cancel := context.WithTimeout(ctx, s.Patience())
	defer cancel()
	out, err := commander.Command(limited, r.Folder, words, input)
	name := strings.Join(s.Command, " ")
	wrong := func(what string) error {
		f := &fault.Error{Kind: fault.Failed, What: what, Where: name,
			Remedy: "Tell whoever made the kit, with what the program says."}
		if said := lastLines(string(out)); said != "" {
			f.Details = []string{"it printed: " + r.redact(said)}
		}
		return f
	}
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case limited.Err() != nil:
		return wrong(fmt.Sprintf("the app's set-up program did not end within %s", s.Patience()))
	case err != nil:
		return wrong("the app's set-up program failed: " + r.redact(err.Error()))
	case s.Expect == nil:
		return nil
	}
	text, err := fill.Text(s.Expect.Text, r.Values)
	if err != nil {
		return err
	}
	not, err := fill.Text(s.Expect.NotText, r.Values)
	if err != nil {
		return err
	}
	if text != "" && !strings.Contains(string(out), text) {
		return wrong(fmt.Sprintf("the app's set-up program does not print “%s”", r.redact(text)))
	}
	if not != "" && strings.Contains(string(out), not) {
		return wrong(fmt.Sprintf("the app's set-up program prints “%s”", r.redact(not)))
	}
	return nil
}

// lastLines gives the end of what a program printed, on one line.
func lastLines(text string) string {
	words := []rune(strings.Join(strings.Fields(text), " "))
	if len(words) > 200 {
		return "… " + string(words[len(words)-200:])
	}
	return string(words)
}

// script runs an SQL file of the app.
func (r *Runner) script(ctx context.Context, s kit.SQLFile) error {
	name, err := fill.Text(s.File, r.Values)
	if err != nil {
		return err
	}
	if err := files.Valid(name); err != nil {
		return err
	}
	file, err := r.Files.Open(ctx, path.Join(r.Folder, name))
	if err != nil {
		return fmt.Errorf("open the schema: %w", err)
	}
	defer file.Close()
	_, err = r.Data.Run(ctx, file, database.ScriptOptions{From: s.Tables, To: r.Values["tables"]})
	if err != nil {
		return fmt.Errorf("%s, %w", name, err)
	}
	return nil
}

func (r *Runner) statement(ctx context.Context, text string, with map[string]string) error {
	text, err := fill.Text(text, fill.Values{"tables": r.Values["tables"]})
	if err != nil {
		return err
	}
	values, err := r.fillAll(with)
	if err != nil {
		return err
	}
	return r.Data.Exec(ctx, text, values)
}

func (r *Runner) fillAll(texts map[string]string) (map[string]string, error) {
	out := map[string]string{}
	for name, text := range texts {
		v, err := fill.Text(text, r.Values)
		if err != nil {
			return nil, err
		}
		out[name] = v
	}
	return out, nil
}

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
		return fault.New(fault.Failed, "the app did not answer", address, lookAtServer).Because(err)
	}
	return r.judge(r.page, q.Expect)
}

const lookAtServer = "Open the address in a browser and look at the server's error log."

// sendForm sends the form of the page got last.
func (r *Runner) sendForm(ctx context.Context, fields map[string]string, to string) error {
	if r.page == nil {
		return fault.New(fault.Failed, "a form is to be sent and no page was fetched before", r.Base,
			"The kit needs a request with get first.")
	}
	answer, err := r.send(ctx, r.page, fields, to)
	if err != nil {
		return fault.New(fault.Failed, "a form of the app could not be sent", r.page.URL.Redacted(),
			lookAtServer).Because(err)
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
	if action, err := url.Parse(form.Action); err != nil || action.Host != p.URL.Host {
		return nil, fmt.Errorf("the form goes to another host")
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
	wrong := func(what string) error {
		return &fault.Error{Kind: fault.Failed, What: what, Where: p.URL.Redacted(), Details: r.excerpt(p),
			Remedy: lookAtServer}
	}
	if p.Away != "" {
		return wrong("the page leads to another host: " + p.Away)
	}
	if p.Status != status {
		return wrong(fmt.Sprintf("the page answered %d instead of %d", p.Status, status))
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

func (r *Runner) redact(text string) string {
	for _, s := range r.Secrets {
		if s != "" {
			text = strings.ReplaceAll(text, s, "(secret)")
		}
	}
	return text
}
