package web_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/web"
)

const page = `<html><head><title>Lock &amp; Key</title></head><body><h1>It&#39;s   "open"</h1>
<form action="search"><input name="q"></form>
<form method="post" action="sign-in?x=1">
<input type="hidden" name="token" value="a&quot;b"><input name="name" value="old"><input type="password" name="password">
<input type="checkbox" name="keep" value="1" checked><input type="checkbox" name="other" value="1">
<input type="radio" name="r" value="1"><input type="radio" name="r" value="2" checked>
<select name="rows"><option value="20">a</option><option value="40" selected>b</option></select>
<select name="plain"><option>first</option><option>second</option></select>
<textarea name="text">some
text</textarea><input name="off" disabled value="x"><button name="go" value="1">Go</button><input type="submit" name="send" value="s"></form></body></html>`

func serve(t *testing.T, h http.HandlerFunc) string {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return s.URL
}

func TestFormWithTheDefaultsOfThePage(t *testing.T) {
	base := serve(t, func(w http.ResponseWriter, r *http.Request) { fmt.Fprint(w, page) })
	p, err := web.NewVisitor(nil).Get(context.Background(), base+"/admin/")
	require.NoError(t, err)
	f, err := p.Form([]string{"name", "password"})
	require.NoError(t, err)
	assert.Equal(t, base+"/admin/sign-in?x=1", f.Action)
	assert.Equal(t, "POST", f.Method)
	assert.Equal(t, url.Values{"token": {`a"b`}, "name": {"old"}, "password": {""}, "keep": {"1"}, "r": {"2"},
		"rows": {"40"}, "plain": {"first"}, "text": {"some\ntext"}}, f.Values)
	_, err = p.Form([]string{"nope"})
	assert.ErrorContains(t, err, "there are (q) and (token, name")
	for text, shows := range map[string]bool{"Lock & Key": true, `It's "open"`: true, "old": true, "nowhere": false} {
		assert.Equal(t, shows, p.Shows(text), text)
	}
}

func TestCookiesAndNames(t *testing.T) {
	base := serve(t, func(w http.ResponseWriter, r *http.Request) {
		if c, err := r.Cookie("visit"); err == nil {
			fmt.Fprintf(w, "%s knows %s", r.Host, c.Value)
			return
		}
		http.SetCookie(w, &http.Cookie{Name: "visit", Value: "you"})
		if r.Method == http.MethodPost {
			http.Redirect(w, r, "/next", http.StatusSeeOther)
		}
	})
	v := web.NewVisitor(web.Connections{"lockside.localhost:8780": strings.TrimPrefix(base, "http://")})
	p, err := v.Post(context.Background(), "http://lockside.localhost:8780/", url.Values{"a": {"b"}})
	require.NoError(t, err)
	assert.Equal(t, "lockside.localhost:8780 knows you", string(p.Body))
	assert.Equal(t, "/next", p.URL.Path)
}

func TestHostileServers(t *testing.T) {
	ctx := context.Background()
	base := serve(t, func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/loop":
			http.Redirect(w, r, "/loop", http.StatusFound)
		case "/away":
			http.Redirect(w, r, "http://127.0.0.1:1/stolen", http.StatusFound)
		case "/large":
			_, _ = io.CopyN(w, zeros{}, 100<<20)
		case "/cut":
			w.Header().Set("Content-Length", "100")
			panic(http.ErrAbortHandler)
		}
	})
	_, err := web.NewVisitor(nil).Get(ctx, base+"/loop")
	assert.ErrorContains(t, err, "redirects")
	p, err := web.NewVisitor(nil).Get(ctx, base+"/away")
	require.NoError(t, err)
	assert.Equal(t, "http://127.0.0.1:1/stolen", p.Away, "not followed")
	_, err = web.NewVisitor(nil).Get(ctx, base+"/large")
	assert.ErrorIs(t, err, web.ErrTooLarge)
	_, err = web.NewVisitor(nil).Get(ctx, base+"/cut")
	assert.Error(t, err)
	_, err = web.NewVisitor(nil).Get(ctx, "http://127.0.0.1:1/secret-path")
	assert.Error(t, err)
	assert.NotContains(t, err.Error(), "secret-path")
	_, err = web.NewVisitor(nil).Get(ctx, "://")
	assert.Error(t, err)
}

type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return len(p), nil }

func FuzzForm(f *testing.F) {
	f.Add(page)
	f.Fuzz(func(t *testing.T, text string) {
		u, _ := url.Parse("http://lockside.localhost/")
		p := &web.Page{URL: u, Body: []byte(text)}
		_, _ = p.Form(nil)
		p.Shows("x")
	})
}

// However many visitors there are, a host has only so many requests under way.
func TestNeverManyAtOnce(t *testing.T) {
	var now, most atomic.Int32
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		most.Store(max(most.Load(), now.Add(1)))
		time.Sleep(20 * time.Millisecond)
		now.Add(-1)
		if r.URL.Path == "/" {
			http.Redirect(w, r, "/there", http.StatusFound)
		}
	}))
	defer server.Close()
	at := strings.TrimPrefix(server.URL, "http://")
	var wait sync.WaitGroup
	for n := range 24 {
		wait.Go(func() { // by several names, all of which lead there
			name := fmt.Sprintf("d%d.localhost:80", n%3)
			_, err := web.NewVisitor(web.Connections{name: at}).Get(context.Background(), "http://"+name+"/")
			assert.NoError(t, err)
		})
	}
	wait.Wait()
	assert.Equal(t, int32(web.AtOnce), most.Load())
}
