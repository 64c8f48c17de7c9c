package sites_test

import (
	"os"
	"path/filepath"
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
		if app == "inkreach" {
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
	assert.Equal(t, []string{"inkreach"}, names(sites.Listing{Newer: true}))
	assert.Equal(t, []string{"inkreach", "towline", "willowbench"},
		names(sites.Listing{Words: []string{"LOCKSIDE"}, Sort: "app"}))
	assert.Equal(t, []string{"willowbench", "towline", "inkreach"},
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
	all, err := w.Sites.List(ctx, sites.Listing{App: "inkreach"})
	require.NoError(t, err)
	assert.Positive(t, all.Sites[0].DatabaseBytes)
	assert.Equal(t, "features", all.Sites[0].NewerLevel)
	assert.Empty(t, all.Sites[0].Due, "its care takes fixes only")
}
