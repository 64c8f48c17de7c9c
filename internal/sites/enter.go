package sites

import (
	"context"
	"maps"
	"net/url"
	"slices"

	"tivset/internal/app/fill"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/web"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
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
func (l *List) Enter(ctx context.Context, word string) (*Entrance, error) {
	found, err := l.Book.Find(ctx, word)
	if err != nil {
		return nil, err
	}
	s, err := l.Book.From(found)
	if err != nil {
		return nil, err
	}
	if s.Password().Empty() {
		return nil, site.NoPassword(found.Address)
	}
	in, err := l.Hosting.Open(ctx, s.In)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	run, err := s.Runner(in, s.Place.Folder, s.Place.URL, l.Now())
	if err != nil {
		return nil, err
	}
	signIn := s.Kit.Check.SignIn
	page, err := fill.Text(signIn.Page, run.Values)
	if err != nil {
		return nil, err
	}
	way := &Entrance{Site: found, Password: s.Password(), Page: run.Address(page)}
	form, err := signInForm(ctx, in, way.Page, signIn.Fields, run.Values)
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
	run.Visitor = in.Visitor()
	if _, err := run.Visitor.Post(ctx, form.Action, form.Values); err != nil {
		return nil, fault.New(fault.Failed, "the site does not answer", form.Action, "Look at it with: "+
			fault.Call("check", found.Address)).Because(err)
	}
	if run.Request(ctx, signIn.Then) == nil {
		way.Action, way.Values = form.Action, form.Values
	}
	return way, nil
}

// signInForm reads the form off its page and fills it in.
func signInForm(ctx context.Context, in *hosting.Account, page string, fields map[string]string,
	values fill.Values) (*web.Form, error) {
	shown, err := in.Visitor().Get(ctx, page)
	if err != nil {
		return nil, fault.New(fault.Failed, "the sign-in does not answer", page, "").Because(err)
	}
	form, err := shown.Form(slices.Sorted(maps.Keys(fields)))
	if err != nil {
		return nil, fault.New(fault.Failed, "the sign-in is not as the kit knows it", page,
			"Open it in your browser; see the password with "+fault.Call("reveal", "SITE")+".").Because(err)
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
