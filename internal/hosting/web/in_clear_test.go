package web_test

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/web"
)

// What a visitor carries over https does not go over http, whatever the site says: not with a redirect, of whichever
// kind, and not with a form; nor to another host.
func TestNothingGoesInClear(t *testing.T) {
	var heard atomic.Int32
	plain := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { heard.Add(1) }))
	t.Cleanup(plain.Close)
	status := http.StatusTemporaryRedirect
	secured := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		http.SetCookie(w, &http.Cookie{Name: "session", Value: "x"})
		w.Header().Set("Location", "http://site.localhost/")
		w.WriteHeader(status)
	}))
	secured.StartTLS()
	t.Cleanup(secured.Close)
	_, clear, err := net.SplitHostPort(plain.Listener.Addr().String())
	require.NoError(t, err)
	v := web.NewVisitor(web.Connections{"site.localhost:80": "127.0.0.1:" + clear,
		"site.localhost:443": secured.Listener.Addr().String()})
	web.Trust(v, secured.Certificate())
	for _, status = range []int{http.StatusMovedPermanently, http.StatusFound, http.StatusSeeOther,
		http.StatusTemporaryRedirect, http.StatusPermanentRedirect} {
		page, err := v.Post(context.Background(), "https://site.localhost/", url.Values{"password": {"secret"}})
		require.NoError(t, err)
		assert.Equal(t, "http://site.localhost/", page.Away)
		_, err = v.Get(context.Background(), "https://site.localhost/")
		require.NoError(t, err)
	}
	for action, will := range map[string]bool{"http://site.localhost/in": false, "//other.localhost/in": false,
		"https://other.localhost/": false, "/in": true, "": true, "https://site.localhost/in": true} {
		page := &web.Page{URL: &url.URL{Scheme: "https", Host: "site.localhost", Path: "/form"},
			Body: []byte(`<form method="post" action="` + action + `"><input name="password"></form>`)}
		form, err := page.Form([]string{"password"})
		require.NoError(t, err)
		err = page.MaySend(form.Action)
		if will {
			require.NoError(t, err, action)
			assert.True(t, strings.HasPrefix(form.Action, "https://site.localhost/"))
		} else {
			assert.ErrorContains(t, err, "the form goes to an", action)
		}
	}
	assert.Zero(t, heard.Load())
}
