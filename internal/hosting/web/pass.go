package web

import (
	"context"
	"net/http"
	"strings"
)

// Pass lets a visit in where other visitors are kept out.
type Pass struct {
	Below  string // the address, with its final slash, below which it is shown
	Name   string // of the cookie that it is
	Secret string
}

type passKey struct{}

// Bringing has all visits that are made with a context show a pass, whoever makes them: each request below its
// address, and each redirect that stays there.
func Bringing(ctx context.Context, p Pass) context.Context {
	return context.WithValue(ctx, passKey{}, p)
}

// Brought gives the pass of a context.
func Brought(ctx context.Context) (Pass, bool) {
	p, is := ctx.Value(passKey{}).(Pass)
	return p, is
}

// shown adds the pass of its context to a request.
func shown(r *http.Request) *http.Request {
	p, is := Brought(r.Context())
	if !is || !strings.HasPrefix(r.URL.String()+"/", p.Below) {
		return r
	}
	r = r.Clone(r.Context()) // it is not to be changed (http.RoundTripper)
	r.AddCookie(&http.Cookie{Name: p.Name, Value: p.Secret})
	return r
}
