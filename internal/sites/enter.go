package sites

import (
	"context"
	"errors"
	"net/http"
	"net/url"
	"path"
	"time"

	"tivset/internal/app/fill"
	"tivset/internal/app/setup"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/runtime"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// Entrance is how somebody gets to a site's admin area: the program signs in as a
// visitor does, and hands the session over to the browser by a page of its own on
// the site.
type Entrance struct {
	Site     ledger.Site
	Password secret.Text
	Page     string // the sign-in, for those who go there themselves

	of    *site.Site
	in    *hosting.Account
	run   *setup.Runner
	maker secret.Maker
	gate  string          // the page's file, "" where none is there
	runs  runtime.Runtime // what was seen to run pages in the site's folder, nil for nothing yet
}

// Enter prepares an entrance. The caller closes it.
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
	e := &Entrance{Site: found, Password: s.Password(), of: s, in: in, maker: l.Maker}
	if e.run, err = s.Runner(in, s.Place.Folder, s.Place.URL, l.Now()); err != nil {
		return nil, closing(in, err)
	}
	page, err := fill.Text(s.Kit.Check.SignIn.Page, e.run.Values)
	if err != nil {
		return nil, closing(in, err)
	}
	e.Page = e.run.Address(page)
	return e, nil
}

func closing(in *hosting.Account, err error) error {
	_ = in.Close()
	return err
}

// Hands says whether the site's folder runs pages that can hand a session over.
func (e *Entrance) Hands(ctx context.Context) (bool, error) {
	r, err := e.runsThere(ctx)
	return r != nil, err
}

// ErrByHand means that no session can be handed over there.
var ErrByHand = fault.New(fault.Failed, "the site runs no page that could hand a session over", "", "")

// Hand signs in as a browser that calls itself agent, and puts the page on the
// site that hands the session over: once, within a minute, to whoever sends it
// the values. ErrByHand where no such page runs.
func (e *Entrance) Hand(ctx context.Context, agent string) (address string, values url.Values, err error) {
	r, err := e.runsThere(ctx)
	if err != nil {
		return "", nil, err
	}
	if r == nil {
		return "", nil, ErrByHand
	}
	visitor := e.in.Visitor()
	visitor.Agent = agent
	signIn := e.of.Kit.Check.SignIn
	if err := e.run.SignInAs(ctx, signIn, e.Password.Reveal(), visitor); err != nil {
		var refused *setup.Refused
		stale := errors.As(err, &refused)
		if err = fault.Hiding(err, func(text string) string { return secret.Hide(text, e.of.Hidden()) }); stale {
			err = site.Stale(e.Site.Address, err)
		}
		return "", nil, err
	}
	half, err := e.maker.Token(40)
	if err != nil {
		return "", nil, err
	}
	ready, err := e.put(ctx, r, half, visitor.Cookies())
	if err != nil {
		return "", nil, err
	}
	if !ready {
		return "", nil, ErrByHand
	}
	return e.Site.URL + path.Base(e.gate), url.Values{"half": {half}}, nil
}

// put puts the page that hands cookies over into the site's folder, and says whether it runs there.
func (e *Entrance) put(ctx context.Context, r runtime.Runtime, half string, cookies []*http.Cookie) (bool, error) {
	text, err := gateText(r, half, e.Site.AdminURL, cookies)
	if err != nil {
		return false, err
	}
	name, err := e.maker.Token(40)
	if err != nil {
		return false, err
	}
	name = "tivset-" + name + r.Pages()[0]
	e.gate = path.Join(e.Site.Folder, name)
	if err := files.Write(ctx, e.in.Files, e.gate, []byte(text), 0o644); err != nil {
		return false, err
	}
	answer, err := e.in.Visitor().Get(ctx, e.Site.URL+name)
	return err == nil && answer.Status == http.StatusOK && string(answer.Body) == gateReady, ctx.Err()
}

// runsThere finds out what makes pages in the site's folder, by a page that gives nobody anything; nil where nothing
// does. What the app's own files are tells nothing: it may have none that is asked for.
func (e *Entrance) runsThere(ctx context.Context) (runtime.Runtime, error) {
	if e.runs != nil {
		return e.runs, nil
	}
	for _, r := range e.in.Runtimes() {
		half, err := e.maker.Token(40)
		if err != nil {
			return nil, err
		}
		ready, err := e.put(ctx, r, half, nil)
		if dropped := files.Drop(context.WithoutCancel(ctx), e.in.Files, e.gate); err == nil {
			err = dropped
		}
		if err != nil {
			return nil, err
		}
		if e.gate = ""; ready {
			e.runs = r
			return r, nil
		}
	}
	return nil, nil
}

// Taken waits until the browser has taken the session, and says whether it has.
func (e *Entrance) Taken(ctx context.Context, most time.Duration) (bool, error) {
	for end := time.Now().Add(most); ; {
		there, err := files.Exists(ctx, e.in.Files, e.gate)
		if err != nil || !there {
			return !there, err
		}
		if time.Now().After(end) {
			return false, nil
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
	}
}

// Close takes the page away, where nobody used it, and lets go of the account.
func (e *Entrance) Close() error {
	var err error
	if e.gate != "" {
		err = files.Drop(context.Background(), e.in.Files, e.gate)
	}
	if closed := e.in.Close(); err == nil {
		err = closed
	}
	return err
}
