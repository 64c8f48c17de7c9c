package site_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/site"
	"tivset/internal/sitetest"
)

func TestSpots(t *testing.T) {
	w := sitetest.Demo(t)
	ctx := context.Background()
	for _, at := range []string{"lockside.localhost/one", "lockside.localhost/two", "chandlery.localhost", "chandlery.localhost/inner"} {
		_, err := w.Install(sitetest.Request("inkwater", at))
		require.NoError(t, err)
	}
	require.NoError(t, os.Remove(filepath.Join(w.Root, "web/helm-school")))
	for _, name := range []string{"", "quillmere"} {
		spots, err := w.Service.Spots(ctx, name)
		require.NoError(t, err)
		said := map[string]string{}
		for _, s := range spots {
			said[s.Domain] = s.State
			assert.False(t, s.Free, s.Domain)
			assert.Equal(t, "quillmere", s.Account)
		}
		assert.Equal(t, map[string]string{
			"quillmere.localhost":   "holds index.html",
			"lockside.localhost":    "holds 2 files and folders, such as one, 2 sites below it",
			"chandlery.localhost":   "“" + sitetest.Request("", "").Answers["title"] + "” (inkwater)",
			"helm-school.localhost": "its folder is not there",
		}, said)
	}
	_, err := w.Service.Spots(ctx, "nobody")
	assert.Error(t, err)
	assert.NoError(t, w.Service.TryAddress(ctx, "quillmere", "lockside.localhost/three"))
	assert.ErrorContains(t, w.Service.TryAddress(ctx, "quillmere", "lockside.localhost/one"), "a site is at this address")
	assert.NoError(t, w.Service.TryAddress(ctx, "quillmere", "lockside.localhost"), "only our own sites lie there")
	assert.ErrorContains(t, w.Service.TryAddress(ctx, "quillmere", "quillmere.localhost"), "in the way")
}

func TestOpenQuestions(t *testing.T) {
	w := sitetest.Demo(t)
	ids := func(r site.Request) (out []string) {
		open, err := w.Service.Open(r)
		require.NoError(t, err)
		for _, q := range open {
			out = append(out, q.ID)
		}
		return out
	}
	r := site.Request{App: "moorings", At: "lockside.localhost/forum"}
	assert.Equal(t, []string{"title", "licence", "admin.email"}, ids(r), "what has no default")
	r = sitetest.Request("moorings", "lockside.localhost/forum")
	assert.Empty(t, ids(r))
	r.Answers["admin.name"], r.Answers["admin.password"] = "admin", "short"
	assert.Equal(t, []string{"admin.name", "admin.password"}, ids(r), "and what was answered wrongly")
	for _, bad := range []site.Request{{App: "nonesuch", At: r.At}, {App: "moorings", At: "nowhere.localhost"}, {App: "moorings", At: r.At, Account: "nobody"},
		{App: "moorings", At: r.At, Answers: map[string]string{"titel": "x"}}} {
		_, err := w.Service.Open(bad)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	}
}

func TestResumeAndUndoOfOtherJobs(t *testing.T) {
	w := sitetest.Demo(t)
	ctx := context.Background()
	done, err := w.Install(sitetest.Request("inkwater", "lockside.localhost/journal"))
	require.NoError(t, err)
	before := w.Snapshot()
	for _, id := range []string{done.Job, "20260101-000000-abcd", "nonsense"} {
		_, err := w.Service.Resume(ctx, id)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind, id)
		_, err = w.Service.Undo(ctx, id)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind, id)
	}
	same(t, before, w.Snapshot())
	jobs, err := w.Service.Jobs(ctx)
	require.NoError(t, err)
	require.Len(t, jobs, 1)
	assert.Equal(t, "installed", jobs[0].Outcome)
	_, err = w.Service.Reveal(ctx, done.Site.Address)
	assert.NoError(t, err)
}
