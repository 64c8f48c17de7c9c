package site

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net/http"
	"path"
	"strings"
	"time"

	"tivset/internal/app/fill"
	"tivset/internal/app/setup"
	"tivset/internal/fault"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
)

// Checked is the result of one check.
type Checked struct {
	Name   string `json:"name"`
	OK     bool   `json:"ok"`
	Detail string `json:"detail"`
}

// checkSite proves that the site works before anybody says so.
type checkSite struct {
	*env `json:"-"`

	lenient bool // what fails is noted, and does not stop the job
}

func (*checkSite) Kind() string               { return "check" }
func (*checkSite) Title() string              { return "Check the site" }
func (*checkSite) Undo(context.Context) error { return nil }

func (c *checkSite) Do(ctx context.Context) error {
	r, err := c.runner(ctx, c.plan.Place.Folder, c.plan.Place.URL)
	if err != nil {
		return err
	}
	if r.Data != nil {
		defer r.Data.Close()
	}
	checks := c.list(ctx, r)
	for i, check := range checks {
		c.count(int64(i+1), int64(len(checks)), "checks")
		err := check.run()
		if err != nil {
			c.checks = append(c.checks, Checked{check.name, false, err.Error()})
			if c.lenient && ctx.Err() == nil {
				c.plan.Warnings = append(c.plan.Warnings, "check of the "+check.name+": "+err.Error())
				continue
			}
			f := *fault.Of(err)
			f.What = "check of the " + check.name + ": " + f.What
			return &f
		}
		c.checks = append(c.checks, Checked{check.name, true, check.detail})
	}
	c.lookAtDenied(ctx, r)
	return nil
}

// check is one of a site's.
type check struct {
	name   string
	detail string // when it is fine
	run    func() error
}

const (
	frontPage     = "front page"
	wrongPassword = "wrong password"
)

// list gives the checks of a site, in order.
func (c *checkSite) list(ctx context.Context, r *setup.Runner) []check {
	kit := c.plan.kit.Check
	all := []check{
		{frontPage, "shows what the kit names", func() error { return c.settled(ctx, func() error { return r.Request(ctx, kit.Front) }) }},
		{"sign-in", "the admin can sign in", func() error {
			return c.settled(ctx, func() error {
				return r.SignIn(ctx, kit.SignIn, c.plan.password.Reveal(), connections(c.account))
			})
		}},
		{wrongPassword, "is refused", func() error { return c.wrongPassword(ctx, r) }},
		{"configuration", "does not come back over the web", func() error { return c.configHidden(ctx, r) }},
		{"database", "answers the site's own user", func() error { return c.databaseAnswers(ctx, r) }},
	}
	if c.plan.Data == nil {
		all = all[:len(all)-1]
	}
	return all
}

// settled tries again for a while: servers may serve a file from before a
// change for some seconds (PHP's opcache looks every two).
func (e *env) settled(ctx context.Context, check func() error) error {
	if e.once {
		return check()
	}
	deadline := time.Now().Add(e.Settle)
	for {
		err := check()
		if err == nil || time.Now().After(deadline) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// wrongPassword makes sure that the sign-in check can fail at all.
func (c *checkSite) wrongPassword(ctx context.Context, r *setup.Runner) error {
	token, err := c.Maker.Token(16)
	if err != nil {
		return err
	}
	err = r.SignIn(ctx, c.plan.kit.Check.SignIn, "wrong-"+token, connections(c.account))
	if err == nil {
		return fault.New(fault.Failed, "a wrong password lets one in, or the kit's check shows nothing", c.plan.Place.URL, "Tell whoever made the kit.")
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return nil
}

// configHidden asks for each configuration file as a stranger would.
func (c *checkSite) configHidden(ctx context.Context, r *setup.Runner) error {
	for _, f := range c.plan.kit.Config {
		page, err := web.NewVisitor(connections(c.account)).Get(ctx, c.plan.Place.URL+f.Path)
		if err != nil {
			return fmt.Errorf("ask for %s: %w", f.Path, err)
		}
		content, err := files.Read(ctx, c.files, path.Join(c.plan.Place.Folder, f.Path), 1<<20)
		if err != nil {
			return err
		}
		if leaks(page, content, r.Secrets) {
			return fault.New(fault.Failed, "the web server shows the configuration to everybody", c.plan.Place.URL+f.Path,
				"Have the host switch on the app's deny rules (.htaccess) or its page runtime for this domain.")
		}
	}
	return nil
}

// leaks says whether an answer holds a file's content or any secret.
func leaks(p *web.Page, content []byte, secrets []string) bool {
	if len(content) > 0 && bytes.Equal(bytes.TrimSpace(p.Body), bytes.TrimSpace(content)) {
		return true
	}
	for _, s := range secrets {
		if len(s) >= 8 && bytes.Contains(p.Body, []byte(s)) {
			return true
		}
	}
	return false
}

func (c *checkSite) databaseAnswers(ctx context.Context, r *setup.Runner) error {
	q := c.plan.kit.Check.Database
	if q == nil {
		_, err := r.Data.Tables(ctx)
		return err
	}
	query, err := fill.Text(q.Query, fill.Values{"tables": r.Values["tables"]})
	if err != nil {
		return err
	}
	want, err := fill.Text(q.Is, r.Values)
	if err != nil {
		return err
	}
	got, err := r.Data.Value(ctx, query, nil)
	if err != nil {
		return err
	}
	if got != want {
		return fault.New(fault.Failed, fmt.Sprintf("the database holds %q instead of %q", got, want), c.plan.Data.Name, "Tell whoever made the kit.")
	}
	return nil
}

// lookAtDenied asks for what the kit says the web must not show. Apps ship
// such files with rules that some servers ignore; the owner is told.
func (c *checkSite) lookAtDenied(ctx context.Context, r *setup.Runner) {
	for _, part := range c.plan.kit.Place.Deny {
		name, content, err := firstFile(ctx, c.files, c.plan.Place.Folder, path.Clean(part))
		if err != nil {
			continue // it is not there, and so cannot be shown
		}
		page, err := web.NewVisitor(connections(c.account)).Get(ctx, c.plan.Place.URL+name)
		if err == nil && page.Status == http.StatusOK && leaks(page, content, r.Secrets) {
			c.plan.Warnings = append(c.plan.Warnings, "the web server shows "+name+" to everybody: ask the host to deny "+strings.TrimSuffix(part, "/")+" for this site")
		}
	}
}

// firstFile finds a file at or below part and reads it.
func firstFile(ctx context.Context, f files.FS, folder, part string) (string, []byte, error) {
	info, err := f.Stat(ctx, path.Join(folder, part))
	if err != nil {
		return "", nil, err
	}
	if !info.IsDir() {
		content, err := files.Read(ctx, f, path.Join(folder, part), 4<<20)
		return part, content, err
	}
	inside, err := f.List(ctx, path.Join(folder, part))
	if err != nil {
		return "", nil, err
	}
	for _, i := range inside {
		if !strings.HasPrefix(i.Name, ".") {
			return firstFile(ctx, f, folder, path.Join(part, i.Name))
		}
	}
	return "", nil, errors.New("nothing is in it")
}
