package setup

import (
	"context"
	"errors"
	"fmt"
	"html"
	"io/fs"
	"maps"
	"net/http"
	"path"
	"regexp"

	"tivset/internal/app/config"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
)

// mostOfNow is up to how many bytes of a file are read for a value, and longest
// how many a value may have.
const (
	mostOfNow = 4 << 20
	longest   = 4000
)

// Now reads from the app, as it is, what of kit.NowNames the kit says how to
// read. What cannot be read is left out, and named in the error.
func (r *Runner) Now(ctx context.Context, k *kit.Kit) (fill.Values, error) {
	out := fill.Values{}
	run := *r
	run.Values = maps.Clone(r.Values) // what is read later may ask by what was read before
	run.got = map[string]*web.Page{}
	var problems []error
	for _, name := range kit.NowNames {
		if !k.ReadsNow(name) {
			continue
		}
		value, err := run.now(ctx, k, name)
		if k.Now[name].As == kit.AsHTML {
			value = html.UnescapeString(value)
		}
		if err == nil && len(value) > longest {
			err = fmt.Errorf("it has more than %d bytes", longest)
		}
		if err != nil {
			problems = append(problems, fmt.Errorf("read the %s: %w", kit.NowWord(name), err))
			continue
		}
		out[name], run.Values[name] = value, value
	}
	return out, errors.Join(problems...)
}

func (r *Runner) now(ctx context.Context, k *kit.Kit, name string) (string, error) {
	n, said := k.Now[name]
	switch {
	case !said:
		return r.fromConfig(ctx, k, name)
	case n.Query != "":
		return r.fromQuery(ctx, n)
	case n.Get != "":
		return r.fromPage(ctx, n)
	}
	text, err := files.Read(ctx, r.Files, path.Join(r.Folder, n.File), mostOfNow)
	if err != nil {
		return "", err
	}
	if n.Constant != "" {
		return config.Constant(string(text), n.Constant)
	}
	return first(n.Pattern, string(text), n.File)
}

// fromConfig reads a value back from a file that was written after a template.
func (r *Runner) fromConfig(ctx context.Context, k *kit.Kit, name string) (string, error) {
	for _, c := range k.Told(name) {
		text, err := files.Read(ctx, r.Files, path.Join(r.Folder, c.Path), mostOfNow)
		if err != nil {
			return "", err
		}
		template, err := fs.ReadFile(k.Files(), c.Template)
		if err != nil {
			return "", err
		}
		if value, found := config.Read(c.Format, string(template), string(text))[name]; found {
			return value, nil
		}
	}
	return "", errors.New("the configuration does not have it in its usual place")
}

func (r *Runner) fromQuery(ctx context.Context, n kit.Now) (string, error) {
	query, err := fill.Text(n.Query, fill.Values{"tables": r.Values["tables"]})
	if err != nil {
		return "", err
	}
	values, err := r.fillAll(n.With)
	if err != nil {
		return "", err
	}
	return r.Data.Value(ctx, query, values)
}

func (r *Runner) fromPage(ctx context.Context, n kit.Now) (string, error) {
	below, err := fill.Text(n.Get, r.Values)
	if err != nil {
		return "", err
	}
	page := r.got[below]
	if page == nil {
		if page, err = r.Visitor.Get(ctx, r.Address(below)); err != nil {
			return "", err
		}
		r.got[below] = page
	}
	if page.Status != http.StatusOK || page.Away != "" {
		return "", fmt.Errorf("the page %s answered %d", page.URL.Redacted(), page.Status)
	}
	value, err := first(n.Pattern, string(page.Body), "/"+below)
	return html.UnescapeString(value), err
}

// first gives the first group of the first match in a text.
func first(pattern, text, where string) (string, error) {
	re, err := regexp.Compile(pattern)
	if err != nil {
		return "", err
	}
	m := re.FindStringSubmatch(text)
	if len(m) < 2 {
		return "", fmt.Errorf("nothing in %s fits %s", where, pattern)
	}
	return m[1], nil
}
