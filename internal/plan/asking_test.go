package plan_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/testing/sitetest"
)

func TestSpots(t *testing.T) {
	w := sitetest.Demo(t)
	ctx := context.Background()
	for _, at := range []string{"lockside.localhost/one", "lockside.localhost/two", "chandlery.localhost",
		"chandlery.localhost/inner"} {
		_, err := w.Install(sitetest.Request("inkreach", at))
		require.NoError(t, err)
	}
	require.NoError(t, os.Remove(filepath.Join(w.Root, "web/slate-school")))
	for _, name := range []string{"", "quillmere"} {
		spots, err := w.Planner.Spots(ctx, name)
		require.NoError(t, err)
		said := map[string]string{}
		for _, s := range spots {
			said[s.Domain] = s.State
			assert.Equal(t, s.Domain == "lockside.localhost", s.Free, s.Domain)
			assert.Equal(t, s.Domain == "quillmere.localhost", s.Primary)
			assert.Equal(t, "quillmere", s.Account)
		}
		assert.Equal(t, map[string]string{
			"quillmere.localhost":    "a single page, index.html",
			"lockside.localhost":     "empty, 2 sites below it",
			"chandlery.localhost":    "“" + sitetest.Request("", "").Answers["title"] + "” (inkreach), one site below it",
			"slate-school.localhost": "its folder is not there",
		}, said)
	}
	_, err := w.Planner.Spots(ctx, "nobody")
	assert.Error(t, err)
	look := func(at string) (plan.Look, error) {
		return w.Planner.LookAt(ctx, plan.Request{Account: "quillmere", At: at})
	}
	_, err = look("lockside.localhost/one")
	assert.ErrorContains(t, err, "a site is at this address")
	for at, want := range map[string]plan.Look{
		"lockside.localhost/three": {Domain: "lockside.localhost", Folder: "web/lockside/three"},
		"lockside.localhost":       {Domain: "lockside.localhost", Folder: "web/lockside"}, // only our own sites lie there
		"quillmere.localhost":      {Domain: "quillmere.localhost", Folder: "web/quillmere", Main: true},
	} {
		got, err := look(at)
		require.NoError(t, err)
		assert.Contains(t, got.URL, "http://"+want.Domain)
		assert.Equal(t, want.Main, len(got.InTheWay) == 1 && len(got.Warnings) == 1, "%+v", got)
		got.URL, got.InTheWay, got.Warnings = "", nil, nil
		assert.Equal(t, want, got)
	}
}

func TestOpenQuestions(t *testing.T) {
	w := sitetest.Demo(t)
	open := func(r plan.Request) (out []string) {
		all, err := w.Planner.Questions(r)
		require.NoError(t, err)
		for _, q := range all {
			if q.What != "" || q.Needed && q.Answer == "" {
				out = append(out, q.ID)
			}
		}
		return out
	}
	r := plan.Request{App: "willowbench", At: "lockside.localhost/forum"}
	assert.Equal(t, []string{"admin.email", "title"}, open(r), "what has no default")
	r = sitetest.Request("willowbench", "lockside.localhost/forum")
	assert.Empty(t, open(r))
	r.Answers["admin.name"], r.Answers["admin.password"] = "admin", "short"
	assert.Equal(t, []string{"admin.name", "admin.password"}, open(r), "and what was answered wrongly")
	for _, bad := range []plan.Request{{App: "nonesuch", At: r.At}, {App: "willowbench", At: "nowhere.localhost"},
		{App: "willowbench", At: r.At, Account: "nobody"},
		{App: "willowbench", At: r.At, Answers: map[string]string{"titel": "x"}}, {App: "willowbench", At: r.At,
			Release: "9"}} {
		_, err := w.Planner.Questions(bad)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	}
}

// Every answer that can be given is in docs/answers.md.
func TestAnswersAreDocumented(t *testing.T) {
	text, err := os.ReadFile("../../docs/answers.md")
	require.NoError(t, err)
	w := sitetest.Demo(t)
	for app := range sitetest.Apps {
		e, err := w.Book.Catalogue.Find(app)
		require.NoError(t, err)
		all, err := w.Planner.Questions(plan.Request{App: app, At: "lockside.localhost",
			Answers: map[string]string{"data.from": "existing", "handover.to": "a@b.localhost"}})
		if app == "lampshelf" {
			all, err = w.Planner.Questions(plan.Request{App: app, At: "lockside.localhost"})
		}
		require.NoError(t, err)
		for _, q := range all {
			if e.Question(q.ID) == nil && !strings.HasPrefix(q.ID, "extra.") {
				assert.Contains(t, string(text), "`"+q.ID+"`", app)
			}
			assert.NotEmpty(t, q.Text, q.ID)
		}
	}
}
