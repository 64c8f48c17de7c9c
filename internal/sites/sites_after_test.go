package sites_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/sites"
	"tivset/internal/testing/sitetest"
)

// Sites are listed as wanted, and a look at the accounts shows what is gone.
func TestLists(t *testing.T) {
	w := sitetest.Demo(t)
	for app, at := range sitetest.Apps {
		r := sitetest.Request(app, at)
		if app == "inkwater" {
			r.Release = "1.3.2"
		}
		_, err := w.Install(r)
		require.NoError(t, err)
	}
	names := func(l sites.Listing) (out []string) {
		all, err := w.Sites.List(ctx, l)
		require.NoError(t, err)
		for _, x := range all.Sites {
			out = append(out, x.App)
		}
		return out
	}
	assert.Len(t, names(sites.Listing{}), len(sitetest.Apps))
	assert.Equal(t, []string{"inkwater"}, names(sites.Listing{Newer: true}))
	assert.Equal(t, []string{"inkwater", "moorings", "towline"},
		names(sites.Listing{Words: []string{"LOCKSIDE"}, Sort: "app"}))
	assert.Equal(t, []string{"towline", "moorings", "inkwater"},
		names(sites.Listing{Words: []string{"lockside"}, Sort: "app", Reverse: true}))
	_, err := w.Sites.List(ctx, sites.Listing{Sort: "colour"})
	assert.ErrorContains(t, err, "cannot be sorted by colour")
	assert.Empty(t, names(sites.Listing{Health: "gone"}))
	x, err := w.Book.Find(ctx, "chandlery.localhost")
	require.NoError(t, err)
	for _, entry := range x.Entries {
		require.NoError(t, os.RemoveAll(filepath.Join(w.Root, x.Folder, entry)))
	}
	assert.Equal(t, []string{"pennywharf"}, names(sites.Listing{Health: "gone", Fresh: true}))
	all, err := w.Sites.List(ctx, sites.Listing{App: "inkwater"})
	require.NoError(t, err)
	assert.Positive(t, all.Sites[0].DatabaseBytes)
	assert.Equal(t, "features", all.Sites[0].NewerLevel)
	assert.Empty(t, all.Sites[0].Due, "its care takes fixes only")
}

// The sign-ins of the demo's apps want a token of their own page: then nothing
// is sent from elsewhere.
func TestEnters(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("moorings", "lockside.localhost/forum"))
	require.NoError(t, err)
	in, err := w.Sites.Enter(ctx, done.Site.Address)
	require.NoError(t, err)
	assert.Empty(t, in.Action)
	assert.Equal(t, done.Site.URL+"sign-in.page", in.Page)
	page := filepath.Join(w.Root, done.Site.Folder, "sign-in.page")
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(page, []byte(strings.ReplaceAll(string(text), "verify", "print \"\"")), 0o644))
	in, err = w.Sites.Enter(ctx, done.Site.Address)
	require.NoError(t, err)
	assert.Equal(t, "wharfinger", in.Values.Get("member"))
	assert.NotEmpty(t, in.Action)
}
