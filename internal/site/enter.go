package site

import (
	"context"
	"maps"
	"net/url"
	"slices"

	"tivset/internal/app/fill"
	"tivset/internal/fault"
	"tivset/internal/hosting/web"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
)

// Entrance is how somebody gets to a site's admin side.
type Entrance struct {
	Site     ledger.Site
	Password secret.Text
	Page     string     // of the sign-in
	Action   string     // where the form goes; "" when it cannot be sent from elsewhere
	Values   url.Values // the form's
}

// Enter finds out how to get in: whether the sign-in's form can be sent from a
// page that is not the site's own, which is tried.
func (s *Service) Enter(ctx context.Context, word string) (*Entrance, error) {
	h, err := s.hold(ctx, word)
	if err != nil {
		return nil, err
	}
	defer h.files.Close()
	if h.plan.password.Empty() {
		return nil, fault.New(fault.Usage, "the vault has no password of this site", h.Address, "Have a new one made: tivset reveal "+h.Address+" --renew")
	}
	e, err := s.begin(h)
	if err != nil {
		return nil, err
	}
	run, err := e.runner(ctx, h.Folder, h.URL)
	if err != nil {
		return nil, err
	}
	signIn := h.plan.kit.Check.SignIn
	page, err := fill.Text(signIn.Page, run.Values)
	if err != nil {
		return nil, err
	}
	in := &Entrance{Site: h.Site, Password: h.plan.password, Page: run.Address(page)}
	form, err := e.signInForm(ctx, in.Page, signIn.Fields, run.Values)
	if err != nil {
		return nil, err
	}
	if signIn.Post != "" {
		post, err := fill.Text(signIn.Post, run.Values)
		if err != nil {
			return nil, err
		}
		form.Action = run.Address(post)
	}
	// Somebody who was never on the site's pages, as the browser will be.
	run.Visitor = web.NewVisitor(connections(e.account))
	if _, err := run.Visitor.Post(ctx, form.Action, form.Values); err != nil {
		return nil, fault.New(fault.Failed, "the site does not answer", form.Action, "Look at it with: tivset check "+h.Address).Because(err)
	}
	if run.Request(ctx, signIn.Then) == nil {
		in.Action, in.Values = form.Action, form.Values
	}
	return in, nil
}

// signInForm reads the form off its page and fills it in.
func (e *env) signInForm(ctx context.Context, page string, fields map[string]string, values fill.Values) (*web.Form, error) {
	shown, err := web.NewVisitor(connections(e.account)).Get(ctx, page)
	if err != nil {
		return nil, fault.New(fault.Failed, "the sign-in does not answer", page, "").Because(err)
	}
	form, err := shown.Form(slices.Sorted(maps.Keys(fields)))
	if err != nil {
		return nil, fault.New(fault.Failed, "the sign-in is not as the kit knows it", page, "Open it in your browser; see the password with tivset reveal.").Because(err)
	}
	for name, text := range fields {
		filled, err := fill.Text(text, values)
		if err != nil {
			return nil, err
		}
		form.Values.Set(name, filled)
	}
	return form, nil
}
