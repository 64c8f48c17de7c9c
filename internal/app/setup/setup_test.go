package setup_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/app/setup"
	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/files/local"
	"tivset/internal/hosting/web"
)

// app is a small app with a set-up page, a sign-in and its ways to go wrong.
type app struct {
	password string
	set      bool
}

func (a *app) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	_ = r.ParseForm()
	_, err := r.Cookie("visit")
	switch r.URL.Path {
	case "/app/install/":
		if r.Method == http.MethodGet {
			http.SetCookie(w, &http.Cookie{Name: "visit", Value: "1", Path: "/"})
			fmt.Fprint(
				w,
				`<h1>Set up</h1><form method="post"><input type="hidden" name="token" value="t1"><input name="keeper"><input name="secret"><select name="rows"><option selected value="40"></select></form>`,
			)
			return
		}
		if err != nil || r.PostForm.Get("token") != "t1" || r.PostForm.Get("rows") != "40" {
			fmt.Fprintf(w, "Startup failed for %s", r.PostForm.Get("secret"))
			return
		}
		a.password, a.set = r.PostForm.Get("secret"), true
		fmt.Fprint(w, "All done")
	case "/app/sign-in":
		if r.Method == http.MethodPost && r.PostForm.Get("secret") == a.password {
			http.SetCookie(w, &http.Cookie{Name: "in", Value: "1", Path: "/"})
			http.Redirect(w, r, "/app/", http.StatusFound) // as after a failure
			return
		}
		fmt.Fprint(w, `<form method="post"><input name="keeper"><input name="secret"></form>`)
	case "/app/admin/":
		if _, err := r.Cookie("in"); err == nil {
			fmt.Fprint(w, "Mill office")
			return
		}
		fmt.Fprint(w, "Please sign in")
	case "/app/get-form":
		fmt.Fprint(w, `<form><input name="secret"></form>`)
	case "/app/other-form":
		fmt.Fprint(w, `<form method="post" action="http://elsewhere.localhost/"><input name="secret"></form>`)
	case "/app/away":
		http.Redirect(w, r, "http://elsewhere.localhost/", http.StatusFound)
	case "/app/broken":
		http.Error(w, "it broke: "+a.password, http.StatusInternalServerError)
	case "/app/loop":
		http.Redirect(w, r, "/app/loop", http.StatusFound)
	case "/app/endless":
		for range 100 {
			if _, err := w.Write(make([]byte, 1<<20)); err != nil {
				return
			}
		}
	case "/app/":
		fmt.Fprint(w, "<title>Lock &amp; Key</title>")
	default:
		http.NotFound(w, r)
	}
}

func runner(t *testing.T) (*setup.Runner, *app) {
	t.Helper()
	a := &app{}
	s := httptest.NewServer(a)
	t.Cleanup(s.Close)
	f, err := local.Open(t.TempDir())
	require.NoError(t, err)
	t.Cleanup(func() { _ = f.Close() })
	return &setup.Runner{Files: f, Folder: ".", Base: s.URL + "/app/", Visitor: web.NewVisitor(nil),
		Values: fill.Values{"title": "Lock & Key", "tables": "t1_", "admin.name": "wharfinger",
			"admin.password": "geheim-geheim"},
		Secrets: []string{"geheim-geheim"}}, a
}

var signIn = kit.SignIn{Page: "sign-in", Fields: map[string]string{"keeper": "{admin.name}",
	"secret": "{admin.password}"},
	Then: kit.Request{Get: "admin/", Expect: kit.Expect{Text: "Mill office"}}}

func TestFormsAndSignIn(t *testing.T) {
	ctx := context.Background()
	r, a := runner(t)
	steps := []kit.Step{
		{Request: &kit.Request{Get: "install/", Expect: kit.Expect{Text: "Set up"}}},
		{Request: &kit.Request{Form: "page", Fields: map[string]string{"keeper": "{admin.name}",
			"secret": "{admin.password}"}, Expect: kit.Expect{Text: "All done", NotText: "Startup failed"}}},
	}
	for _, s := range steps {
		require.NoError(t, r.Do(ctx, s))
	}
	assert.True(t, a.set)
	require.NoError(t, r.Request(ctx, kit.Request{Get: "/", Expect: kit.Expect{Text: "{title}"}}))
	require.NoError(t, r.SignIn(ctx, signIn, "geheim-geheim", nil))
	err := r.SignIn(ctx, signIn, "wrong", nil)
	require.ErrorContains(t, err, "does not show “Mill office”")
	assert.Contains(t, fault.Of(err).Details[0], "Please sign in")
}

func TestAnswersThatAreNotTheExpectedOnes(t *testing.T) {
	ctx := context.Background()
	r, a := runner(t)
	a.password = "geheim-geheim"
	for what, q := range map[string]kit.Request{
		"answered 404 instead of 200":   {Get: "nothing"},
		"answered 500 instead of 200":   {Get: "broken"},
		"the app did not answer":        {Get: "loop"},
		"more than 4 MB":                {Get: "endless"},
		"does not show “Welcome”":       {Get: "/", Expect: kit.Expect{Text: "Welcome"}},
		"shows “Lock & Key”":            {Get: "/", Expect: kit.Expect{NotText: "{title}"}},
		"leads to another host":         {Get: "away"},
		"no value is called {nonesuch}": {Get: "/", Expect: kit.Expect{Text: "{nonesuch}"}},
	} {
		err := r.Request(ctx, q)
		require.ErrorContains(t, err, what)
		assert.NotContains(t, fmt.Sprint(err, fault.Of(err).Details), "geheim", "secrets are left out of what a page says")
	}
	r.Rewriting = true
	assert.Contains(t, fault.Of(r.Request(ctx, kit.Request{Get: "nothing"})).Remedy, "pass the app's addresses on")
	assert.ErrorContains(t, (&setup.Runner{}).Request(ctx, kit.Request{Form: "page"}), "no page was fetched before")
	require.NoError(t, r.Request(ctx, kit.Request{Get: "nothing", Expect: kit.Expect{Status: 404}}))
	for page, what := range map[string]string{"get-form": "not sent by POST", "other-form": "another host",
		"/": "has no form"} {
		err := r.SignIn(ctx, kit.SignIn{Page: page, Fields: map[string]string{"secret": "x"}, Then: signIn.Then}, "x", nil)
		assert.ErrorContains(t, err, what, page)
	}
	r.Base = "http://127.0.0.1:1/"
	err := r.Request(ctx, kit.Request{Get: "x"})
	assert.ErrorContains(t, err, "did not answer")
	assert.NotEmpty(t, fault.Of(err).Remedy)
}

// session notes what it is asked to run.
type session struct {
	database.Session
	ran []string
	err error
}

func (s *session) Run(_ context.Context, script io.Reader, o database.ScriptOptions) (int, error) {
	text, _ := io.ReadAll(script)
	s.ran = append(s.ran, o.From+">"+o.To+" "+string(text))
	return 1, s.err
}

func (s *session) Exec(_ context.Context, statement string, values map[string]string) error {
	s.ran = append(s.ran, statement+fmt.Sprint(values))
	return s.err
}

func TestSQLAndRemove(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "stage/schema"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "stage/schema/x.sql"), []byte("SELECT 1"), 0o644))
	f, err := local.Open(dir)
	require.NoError(t, err)
	defer f.Close()
	s := &session{}
	r := &setup.Runner{Files: f, Folder: "stage", Data: s, Values: fill.Values{"tables": "t1_",
		"admin.name": "{tables}'; --"}}
	require.NoError(t, r.Do(ctx, kit.Step{SQL: &kit.SQLFile{File: "schema/x.sql", Tables: "bench_"}}))
	require.NoError(t, r.Do(ctx, kit.Step{RunSQL: "UPDATE {tables}writers SET n = :n",
		With: map[string]string{"n": "{admin.name}"}}))
	assert.Equal(t, []string{"bench_>t1_ SELECT 1", "UPDATE t1_writers SET n = :nmap[n:{tables}'; --]"}, s.ran,
		"values stay values")
	require.NoError(t, r.Do(ctx, kit.Step{Remove: []string{"schema/", "not-there"}}))
	assert.NoDirExists(t, filepath.Join(dir, "stage/schema"))
	for _, mode := range []string{"", "0600"} { // over what is there
		require.NoError(t,
			r.Do(ctx, kit.Step{Write: &kit.Written{File: "data/first.txt", Text: "by {admin.name}", Mode: mode}}))
		text, err := os.ReadFile(filepath.Join(dir, "stage/data/first.txt"))
		require.NoError(t, err)
		assert.Equal(t, "by {tables}'; --", string(text))
		info, err := os.Stat(filepath.Join(dir, "stage/data/first.txt"))
		require.NoError(t, err)
		assert.Equal(t, map[string]os.FileMode{"": 0o644, "0600": 0o600}[mode], info.Mode().Perm())
	}
	assert.ErrorContains(t, r.Do(ctx, kit.Step{SQL: &kit.SQLFile{File: "schema/x.sql"}}), "open the schema")
	assert.ErrorContains(t, r.Do(ctx, kit.Step{RunSQL: "DELETE FROM {nonesuch}"}), "nonesuch")
	assert.ErrorContains(t, r.Do(ctx, kit.Step{RunSQL: "DELETE", With: map[string]string{"a": "{nonesuch}"}}), "nonesuch")
}

// A program of the account's gets its words as they are, secrets on its
// standard input, a folder and a time.
func TestCommands(t *testing.T) {
	ctx := context.Background()
	r, _ := runner(t)
	dir := t.TempDir()
	f, err := local.Open(dir)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "stage"), 0o755))
	program := filepath.Join(dir, "php")
	require.NoError(t, os.WriteFile(program,
		[]byte("#!/bin/sh\npwd; printf '%s|' \"$@\"; cat; [ \"$1\" != fail ] || { echo it failed >&2; exit 3; }; [ \"$1\" "+
			"!= wait ] || sleep 5\n"), 0o755))
	r.Files, r.Folder, r.PHP = f, "stage", program
	r.Values["admin.name"], r.Values["admin.password"] = "$(id) 'x' \"y\"", "geheim-geheim"
	r.Secrets = []string{"geheim-geheim"}
	step := func(words ...string) kit.Step {
		return kit.Step{Command: append([]string{"php"}, words...), Input: "{admin.password}\n",
			Expect: &kit.Expect{Text: "geheim-geheim"}}
	}
	require.NoError(t, r.Do(ctx, step("a b", "{admin.name}", "*")))
	s := step("{admin.name}")
	s.Expect = &kit.Expect{Text: dir + "/stage\n$(id) 'x' \"y\"|geheim"}
	require.NoError(t, r.Do(ctx, s), "no shell reads the words, and it runs in the app's folder")
	s = step("x")
	s.Expect = &kit.Expect{NotText: "geheim"}
	err = r.Do(ctx, s)
	require.ErrorContains(t, err, "prints")
	assert.NotContains(t, fmt.Sprint(err, fault.Of(err).Details), "geheim-geheim")
	s.Expect = &kit.Expect{Text: "all done"}
	assert.ErrorContains(t, r.Do(ctx, s), "does not print “all done”")
	err = r.Do(ctx, step("fail"))
	assert.ErrorContains(t, err, "it failed")
	s = step("wait")
	s.Time = "200ms"
	began := time.Now()
	assert.ErrorContains(t, r.Do(ctx, s), "did not end within 200ms")
	assert.Less(t, time.Since(began), 3*time.Second)
	r.PHP = ""
	assert.ErrorContains(t, r.Do(ctx, step("x")), "without commands")
	r.PHP, r.Files = program, struct{ files.FS }{f}
	assert.ErrorContains(t, r.Do(ctx, step("x")), "without commands")
}
