package check

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sync"
	"time"

	"tivset/internal/app/fill"
	"tivset/internal/app/setup"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/web"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// Checked is the result of one check.
type Checked struct {
	Name     string `json:"name"`
	OK       bool   `json:"ok"`
	Detail   string `json:"detail"`
	Accepted bool   `json:"accepted,omitempty"` // it is not right, and the owner lives with it
}

// Health is what checks say of a site: good, or bad where one of them is not right.
func Health(all []Checked) string {
	for _, c := range all {
		if !c.OK {
			return "bad"
		}
	}
	return "good"
}

// Visit is a look at a site as a visitor, its admin and a stranger have it.
type Visit struct {
	Site  *site.Site
	In    *hosting.Account
	Maker secret.Maker
	Now   func() time.Time
	Once  bool // each check is tried once: a wrong password sent again and again locks people out

	run *setup.Runner
}

// Check is one of a site's.
type Check struct {
	Name   string
	Detail string // when it is fine
	Run    func(context.Context) error
}

// The names of checks that others look for.
const (
	FrontPage     = "front page"
	SignIn        = "sign-in"
	WrongPassword = "wrong password"
	Database      = "database"
)

// Open makes the visit ready. The caller closes it.
func (v *Visit) Open() error {
	var err error
	v.run, err = v.Site.Runner(v.In, v.Site.Place.Folder, v.Site.Place.URL, v.Now())
	return err
}

// Read has the visit's site be as it says of itself at present, and gives what
// was read. What could not be read stays as it is recorded, and is in the error.
func (v *Visit) Read(ctx context.Context) (fill.Values, error) {
	var now fill.Values
	err := v.settled(ctx, func() (err error) {
		now, err = v.run.Now(ctx, v.Site.Kit.Kit)
		return err
	})
	v.Site = v.Site.As(now)
	values, wrong := v.Site.Values(v.Now())
	if wrong == nil {
		v.run.Values = values
	}
	return now, errors.Join(err, wrong)
}

// Stay has the visit go on as one to a site that is as it is given.
func (v *Visit) Stay(s *site.Site) {
	v.Site = s
	if values, err := s.Values(v.Now()); err == nil {
		v.run.Values, v.run.Secrets = values, s.Hidden()
	}
}

// SignsIn signs in with the stored password. One that the app refuses, although
// its pages answer, is a decision for the owner (site.Stale) where the site was
// only looked at; after a job it is the job's failure.
func (v *Visit) SignsIn(ctx context.Context) error {
	err := v.settled(ctx, func() error { return v.signIn(ctx, v.Site.Password().Reveal()) })
	var refused *setup.Refused
	if v.Once && errors.As(err, &refused) {
		return site.Stale(v.Site.Address(), err)
	}
	return err
}

// Close lets go of the site's database.
func (v *Visit) Close() error {
	if v.run.Data == nil {
		return nil
	}
	return v.run.Data.Close()
}

// Checks lists the checks, in order.
func (v *Visit) Checks() []Check {
	kit := v.Site.Kit.Check
	all := []Check{
		{FrontPage, "shows what the kit names", func(ctx context.Context) error {
			run := *v.run // others visit pages meanwhile
			return v.settled(ctx, func() error { return run.Request(ctx, kit.Front) })
		}},
		{SignIn, "the admin can sign in", v.SignsIn},
		{WrongPassword, "is refused", v.wrongPassword},
		{"configuration", "does not come back over the web", v.configHidden},
	}
	if v.Site.Data != nil {
		all = append(all, Check{Database, "answers the site's own user", v.databaseAnswers})
	}
	return all
}

// Outcome is what came of a check.
type Outcome struct {
	Err  error
	Took time.Duration
}

// Together runs checks side by side, and gives what came of each. Those that send
// the admin's name keep their order, for apps count wrong passwords; and the
// database is asked after them, for some apps write into it when somebody signs in
// for the first time.
func (v *Visit) Together(ctx context.Context, all []Check) []Outcome {
	out := make([]Outcome, len(all))
	one := func(i int) {
		begun := time.Now()
		err := all[i].Run(ctx)
		out[i] = Outcome{err, time.Since(begun)}
	}
	var wait sync.WaitGroup
	var inOrder []int
	for i, c := range all {
		if c.Name == SignIn || c.Name == WrongPassword || c.Name == Database {
			inOrder = append(inOrder, i)
			continue
		}
		wait.Go(func() { one(i) })
	}
	for _, i := range inOrder {
		one(i)
	}
	wait.Wait()
	return out
}

// settled tries a check again for a while, unless each is to be tried once.
func (v *Visit) settled(ctx context.Context, check func() error) error {
	if v.Once {
		return check()
	}
	return v.In.Settled(ctx, check)
}

func (v *Visit) signIn(ctx context.Context, password string) error {
	return v.run.SignIn(ctx, v.Site.Kit.Check.SignIn, password, hosting.Connections(v.In.Account))
}

// wrongPassword makes sure that the sign-in check can fail at all.
func (v *Visit) wrongPassword(ctx context.Context) error {
	token, err := v.Maker.Token(16)
	if err != nil {
		return err
	}
	if v.signIn(ctx, "wrong-"+token) == nil {
		return fault.New(fault.Failed, "a wrong password was accepted, or the kit's sign-in check cannot tell",
			v.Site.Place.URL,
			"Tell the kit's author.")
	}
	return ctx.Err()
}

// mostOfConfig is up to how many bytes of a configuration file are read, to
// compare them with what the web shows.
const mostOfConfig = 1 << 20

// configHidden asks for each configuration file as a stranger would.
func (v *Visit) configHidden(ctx context.Context) error {
	for _, f := range v.Site.Kit.Config {
		page, err := v.In.Visitor().Get(ctx, v.Site.Place.URL+f.Path)
		if err != nil {
			return fmt.Errorf("ask for %s: %w", f.Path, err)
		}
		content, err := files.Read(ctx, v.In.Files, path.Join(v.Site.Place.Folder, f.Path), mostOfConfig)
		if errors.Is(err, fs.ErrNotExist) && f.Optional {
			continue
		}
		if err != nil {
			return err
		}
		if leaks(page, content, v.run.Secrets) {
			return fault.New(fault.Failed, "the web server shows the configuration to everybody", v.Site.Place.URL+f.Path,
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

// databaseAnswers asks the site's database with the site's own credentials.
func (v *Visit) databaseAnswers(ctx context.Context) error {
	q := v.Site.Kit.Check.Database
	if q == nil {
		_, err := v.run.Data.Tables(ctx)
		return err
	}
	query, err := fill.Text(q.Query, fill.Values{"tables": v.run.Values["tables"]})
	if err != nil {
		return err
	}
	want, err := fill.Text(q.Is, v.run.Values)
	if err != nil {
		return err
	}
	got, err := v.run.Data.Value(ctx, query, nil)
	if err != nil {
		return err
	}
	if got != want {
		return fault.New(fault.Failed, fmt.Sprintf("the database holds %q instead of %q", got, want), v.Site.Data.Name,
			"Tell the kit's author.")
	}
	return nil
}
