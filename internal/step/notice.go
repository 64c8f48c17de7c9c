package step

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"slices"
	"strings"

	"tivset/internal/app/kit"
	"tivset/internal/hosting/files"
)

// The notice that stands in the place of a closed site. It has a page under each
// name at which the app's own pages answer, so that every server finds it.

const noticeMark = "Closed for a few seconds"

// noticeSign is in every file of a notice, and in nobody else's: by it they are
// known again.
const noticeSign = "tivset-notice"

// noticePage is what visitors see.
const noticePage = `<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<meta name="robots" content="noindex"><meta name="` + noticeSign + `"><title>` + noticeMark + `</title>
<style>body{font:1.2rem/1.5 system-ui,sans-serif;max-width:36rem;margin:20vh auto;padding:0 1rem;color:#223}
@media(prefers-color-scheme:dark){body{background:#181c22;color:#dde}}</style>
<h1>` + noticeMark + `</h1><p>This page can be loaded again in a minute.</p></html>
`

// retryAfter is when visitors are asked to come again, in seconds.
const retryAfter = 60

// emptierName begins the name of a page that empties the code cache of the runtime: until
// then it may run what is gone.
const emptierName = "tivset-"

// notices gives the files of the notice that takes the place of parts of the
// site.
func (c *Close) notices(ctx context.Context, parts []string) (map[string]string, error) {
	out := map[string]string{}
	for _, full := range parts {
		name := full[len(c.Folder)+1:]
		if strings.Contains(name, "/") || rank(c.Kit, c.Folder, full) <= configRank {
			continue // its folder stays, for something of others is in it; or no visitor asks for it
		}
		info, err := c.In.Files.Stat(ctx, full)
		if err != nil {
			return nil, err
		}
		if info.IsDir() {
			err = c.noticeIn(ctx, name, out)
		} else if r := c.In.Runtimes().Of(name); r != nil {
			out[name] = r.Closed(retryAfter, noticePage)
		}
		if err != nil {
			return nil, err
		}
	}
	if len(out) == 0 && len(parts) > 0 { // plain files: no status can be sent by them
		out["index.html"] = noticePage
	}
	if err := c.front(ctx, parts, out); err != nil {
		return nil, err
	}
	if err := c.emptier(out); err != nil {
		return nil, err
	}
	if err := c.settings(ctx, parts, out); err != nil {
		return nil, err
	}
	return out, c.rule(ctx, parts, out)
}

// front has the site's folder itself answer with the notice where the app has no page for it: a server that
// lists folders would show what is in there, and that the site is not closed.
func (c *Close) front(ctx context.Context, parts []string, out map[string]string) error {
	ending := ""
	for _, name := range slices.Sorted(maps.Keys(out)) {
		r := c.In.Runtimes().Of(name)
		if r == nil || strings.Contains(name, "/") {
			continue
		}
		if strings.HasPrefix(name, "index.") {
			return nil
		}
		ending = r.Pages()[0]
	}
	if ending == "" {
		return nil
	}
	name := "index" + ending
	full := path.Join(c.Folder, name)
	there, err := files.Exists(ctx, c.In.Files, full)
	if err != nil || there && !slices.Contains(parts, full) { // somebody's own, which answers for itself
		return err
	}
	out[name] = c.In.Runtimes().Of(name).Closed(retryAfter, noticePage)
	return nil
}

// settings adds those that PHP has in the site's folder: without them it would take
// note that there are none, and go on with that when the site is open again.
func (c *Close) settings(ctx context.Context, parts []string, out map[string]string) error {
	own := path.Join(c.Folder, kit.UserINI)
	if !slices.Contains(parts, own) {
		return nil
	}
	text, err := files.Read(ctx, c.In.Files, own, mostOfConfig)
	if err == nil {
		out[kit.UserINI] = "; " + noticeSign + "\n" + string(text)
	}
	return err
}

// noticeIn adds the page of a folder of the site that has one.
func (c *Close) noticeIn(ctx context.Context, name string, out map[string]string) error {
	inside, err := c.In.Files.List(ctx, path.Join(c.Folder, name))
	if err != nil {
		return err
	}
	for _, i := range inside {
		if r := c.In.Runtimes().Of(i.Name); r != nil && strings.HasPrefix(i.Name, "index.") {
			out[path.Join(name, i.Name)] = r.Closed(retryAfter, noticePage)
		}
	}
	return nil
}

// emptier adds what empties the code cache of the runtime of which the notice is.
func (c *Close) emptier(out map[string]string) error {
	for name := range out {
		r := c.In.Runtimes().Of(name)
		if r == nil {
			continue
		}
		if page, _ := r.Emptier(noticeSign); page != "" {
			token, err := c.Maker.Token(20)
			out[emptierName+token+r.Pages()[0]] = page
			return err
		}
	}
	return nil
}

// ruled says that a server obeys a folder's .htaccess as to what the notice's
// rule says (Apache manual, AllowOverride FileInfo).
var ruled = regexp.MustCompile(`(?mi)^\s*(Rewrite(Rule|Engine)|Redirect(Match)?|ErrorDocument|FallbackResource)\b`)

// rule adds a rule with which Apache answers the same for every address of the
// site, where the site's own rules show that such are obeyed.
func (c *Close) rule(ctx context.Context, parts []string, out map[string]string) error {
	own := path.Join(c.Folder, rules)
	if !slices.Contains(parts, own) {
		return nil
	}
	text, err := files.Read(ctx, c.In.Files, own, mostOfConfig)
	if err != nil || !ruled.Match(text) {
		return err
	}
	at, err := url.Parse(c.URL)
	if err != nil {
		return err
	}
	open := []string{regexp.QuoteMeta(emptierName)}
	if below, is := strings.CutPrefix(c.Coming, c.Folder+"/"); is {
		open = append(open, regexp.QuoteMeta(below)+"(/|$)")
	}
	inside, err := c.In.Files.List(ctx, c.Folder)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	for _, i := range inside {
		if full := path.Join(c.Folder, i.Name); i.IsDir() && !slices.Contains(parts, full) {
			open = append(open, regexp.QuoteMeta(i.Name)+"(/|$)")
		}
	}
	out[rules] = fmt.Sprintf("ErrorDocument 503 \"%s\"\n%sRedirectMatch 503 \"^%s(?!%s)\"\n",
		strings.NewReplacer("\"", "'", "\n", " ").Replace(noticePage), retryRule, regexp.QuoteMeta(at.Path),
		strings.Join(open, "|"))
	return nil
}

// retryRule is what the notice's rules say besides; some hosts do not bear it, and
// answer 500 for all (Apache manual, AllowOverrideList).
var retryRule = fmt.Sprintf("<IfModule mod_headers.c>\nHeader always set Retry-After \"%d\"\n</IfModule>\n", retryAfter)

// borne takes out of the notice's rules what the server does not bear.
func (c *Close) borne(ctx context.Context) error {
	text, has := c.written[rules]
	if !has {
		return nil
	}
	page, err := c.In.Visitor().Get(ctx, c.URL+"?tivset="+c.Job)
	if err != nil || page.Status != http.StatusInternalServerError {
		return nil
	}
	return replace(ctx, c.In.Files, path.Join(c.Folder, rules), []byte(strings.Replace(text, retryRule, "", 1)), 0o644)
}

// rules is the file of a folder's own rules (Apache manual, AccessFileName).
const rules = ".htaccess"

// inOrder sorts by the order in which entries of a site's folder may come to be
// there, so that no page of the app ever answers without its configuration: a
// server's rules, the configuration, what pages need, and last what answers.
// They leave in the order turned round. It sorts in place, and gives what it
// sorted.
func inOrder[T any](k *kit.Kit, folder string, list []T, name func(T) string) []T {
	slices.SortStableFunc(list, func(a, b T) int { return rank(k, folder, name(a)) - rank(k, folder, name(b)) })
	return list
}

// configRank is that of the configuration.
const configRank = 1

// rank is the place of an entry in that order.
func rank(k *kit.Kit, folder, full string) int {
	name := strings.TrimPrefix(full, folder+"/")
	holds := func(c kit.Config) bool {
		return files.Within(path.Clean(c.Path), name) || files.Within(name, path.Clean(c.Path))
	}
	switch {
	case strings.HasPrefix(path.Base(name), "."):
		return 0
	case k != nil && slices.ContainsFunc(k.Config, holds):
		return configRank
	case path.Ext(name) == "":
		return 2
	}
	return 3
}

// isNotice says whether a file is one of a notice's.
func (t *Tools) isNotice(ctx context.Context, name string) (bool, error) {
	info, err := t.In.Files.Stat(ctx, name)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	if err != nil || !info.Mode.IsRegular() ||
		info.Size > 2*int64(len(noticePage)) && path.Base(name) != kit.UserINI || info.Size > mostOfConfig {
		return false, err
	}
	text, err := files.Read(ctx, t.In.Files, name, info.Size)
	return strings.Contains(string(text), noticeSign), err
}

// dropBoard takes a notice away that is out of the web. What somebody put among
// its files while it stood in the site's place is kept.
func (t *Tools) dropBoard(ctx context.Context, board string) error {
	all, err := files.Tree(ctx, t.In.Files, board, nil)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	found := false
	for _, f := range slices.Backward(all) { // what is in a folder comes after it
		ours := f.IsDir()
		if !ours {
			if ours, err = t.isNotice(ctx, f.Path); err != nil {
				return err
			}
		}
		if !ours {
			found = true
			continue
		}
		if err := t.In.Files.Remove(ctx, f.Path); err != nil && !f.IsDir() { // a folder may hold what was found
			return err
		}
	}
	if !found {
		return t.In.Files.Remove(ctx, board)
	}
	kept := t.Store().Aside(t.Job + "-found")
	if _, err := files.MkdirAll(ctx, t.In.Files, path.Dir(kept), 0o700); err != nil {
		return err
	}
	t.Result.Warn(
		"somebody put files into the site's folder while it was closed; they are kept in the account, in " + kept,
	)
	return t.In.Files.Rename(ctx, board, kept)
}
