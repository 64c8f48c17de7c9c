package check_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/release"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/repair"
)

// Every app's site can be checked from what is recorded, and what breaks shows.
func TestChecksSites(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	w.Hosting.Settle = 0
	addresses := map[string]string{}
	for app, at := range sitetest.Apps {
		done, err := w.Install(sitetest.Request(app, at))
		require.NoError(t, err, app)
		addresses[app] = done.Site.Address
		before := w.Snapshot()
		_, soon := sitetest.Examined(t, w, done.Site.Address)
		assert.NotContains(t, soon, "wrong password", "the install has tried one just now")
		w.Now = func() time.Time { return time.Now().Add(13 * time.Hour) }
		e, fine := sitetest.Examined(t, w, done.Site.Address)
		assert.True(t, e.OK, "%s: %v", app, e.Checks)
		assert.True(t, fine["front page"] && fine["sign-in"] && fine["configuration"] && fine["files"], app)
		assert.True(t, fine["wrong password"], app)
		_, fine = sitetest.Examined(t, w, done.Site.Address)
		w.Now = time.Now
		assert.NotContains(t, fine, "wrong password", "not tried again so soon, lest somebody is locked out")
		sitetest.Same(t, before, w.Snapshot())
	}
	health := func(word string) string {
		x, err := w.Book.Find(ctx, word)
		require.NoError(t, err)
		return x.Health
	}
	at := addresses["inkreach"]
	x, err := w.Book.Find(ctx, at)
	require.NoError(t, err)
	w.Demo.Standin.Web.Break("/"+filepath.Base(at)+"/", 500)
	e, fine := sitetest.Examined(t, w, at)
	assert.False(t, e.OK)
	assert.False(t, fine["front page"] || fine["sign-in"])
	assert.True(t, fine["database"], "the other checks go on")
	assert.Equal(t, "bad", health(at))
	w.Demo.Standin.Web.Break("/"+filepath.Base(at)+"/", 0)
	e, _ = sitetest.Examined(t, w, at)
	assert.True(t, e.OK)
	assert.Equal(t, "good", health(at))
	// Files changed by hand, and by a stranger.
	folder := filepath.Join(w.Root, x.Folder)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "post.page"), []byte("changed"), 0o644))
	require.NoError(t, os.Remove(filepath.Join(folder, "licence.txt")))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "parts", "strange.php"), []byte("<?php"), 0o666))
	require.NoError(t, os.Chmod(filepath.Join(folder, "parts", "strange.php"), 0o666))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "admin", "notes.txt"), []byte("mine"), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "schema"), 0o755))
	e, fine = sitetest.Examined(t, w, at)
	assert.False(t, fine["files"] || fine["added files"] || fine["permissions"] || fine["leftovers"], "%v", e.Checks)
	assert.True(t, fine["updates"] && fine["space"])
	assert.Equal(t, release.Compared{Changed: []string{"post.page"}, Missing: []string{"licence.txt"},
		Added:    []string{"admin/notes.txt", "parts/strange.php"},
		Programs: []string{"parts/strange.php"}}, e.Compared)
	repaired, err := repair.Repair(ctx, w.Desk, at)
	require.NoError(t, err)
	assert.Equal(t, []string{"licence.txt", "post.page"}, repaired.Files)
	assert.FileExists(t, filepath.Join(w.Root, repaired.Backup.File))
	e, fine = sitetest.Examined(t, w, at)
	assert.True(t, fine["files"], "%v", e.Checks)
	assert.False(t, fine["added files"], "what was added is for the owner to judge")

	for _, entry := range x.Entries {
		require.NoError(t, os.RemoveAll(filepath.Join(folder, entry)))
	}
	e, _ = sitetest.Examined(t, w, at)
	assert.False(t, e.OK)
	assert.Contains(t, e.Checks[0].Detail, fault.Call("forget", x.Address))
	assert.Equal(t, "gone", health(at))
}

// A look at many sites that is interrupted keeps what it has seen, whole.
func TestManyLooksInterrupted(t *testing.T) {
	w := sitetest.Demo(t)
	var sites []ledger.Site
	for _, at := range []string{"lockside.localhost/a", "lockside.localhost/b", "chandlery.localhost/c"} {
		done, err := w.Install(sitetest.Request("inkreach", at))
		require.NoError(t, err)
		for range 5 { // more than are looked at at once
			sites = append(sites, done.Site)
		}
	}
	within, stop := context.WithCancel(context.Background())
	told := 0
	all, err := w.Examiner.CheckAll(within, sites, func(check.Examined) {
		told++
		stop()
	})
	require.ErrorIs(t, err, context.Canceled)
	assert.Len(t, all, told)
	assert.Less(t, told, len(sites))
	for _, e := range all {
		assert.NotEmpty(t, e.Checks, e.Address)
	}
	all, err = w.Examiner.CheckAll(context.Background(), sites[:2], nil)
	require.NoError(t, err)
	assert.Len(t, all, 2)
}
