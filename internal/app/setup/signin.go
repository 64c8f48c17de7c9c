package setup

import (
	"context"
	"maps"
	"net/http"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/hosting/web"
)

// SignIn signs in as the admin with a password, as a new visitor, and reports
// nil when the page for those signed in appeared.
func (r *Runner) SignIn(ctx context.Context, s kit.SignIn, password string, connections web.Connections) error {
	return r.SignInAs(ctx, s, password, web.NewVisitor(connections))
}

// SignInAs does so as a visitor of the caller's, who is signed in afterwards. The
// form goes to no other host than the site's, whatever its page says.
func (r *Runner) SignInAs(ctx context.Context, s kit.SignIn, password string, as *web.Visitor) error {
	visit := *r
	visit.Visitor = as
	visit.Values = maps.Clone(r.Values)
	visit.Values[answer.AdminPassword] = password
	visit.Secrets = append([]string{password}, r.Secrets...)
	if err := visit.Request(ctx, kit.Request{Get: s.Page}); err != nil {
		return err
	}
	fields, err := visit.fillAll(s.Fields)
	if err != nil {
		return err
	}
	to, err := fill.Text(s.Post, visit.Values)
	if err != nil {
		return err
	}
	if err := visit.sendForm(ctx, fields, to); err != nil {
		return err
	}
	// Success and failure of a sign-in look alike in too many apps; only a page
	// for those signed in tells.
	err = visit.Request(ctx, s.Then)
	if err != nil && visit.page != nil && visit.page.Status < http.StatusInternalServerError && ctx.Err() == nil {
		return &Refused{err}
	}
	return err
}

// Refused is the error of a sign-in whose pages all answered, and did not let in.
type Refused struct{ Err error }

func (r *Refused) Error() string { return r.Err.Error() }

// Unwrap gives what the page for those signed in was wrong about.
func (r *Refused) Unwrap() error { return r.Err }
