package work_test

import (
	"context"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/release"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/update"
)

// exposure is what a look at a site says of one kind of thing that strangers see; the zero value where it says nothing.
func exposure(t *testing.T, w *sitetest.World, site, name string) check.Checked {
	t.Helper()
	e, _ := sitetest.Examined(t, w, site)
	for _, c := range e.Checks {
		if c.Name == name {
			return c
		}
	}
	return check.Checked{}
}

// What the owner lives with is no problem any more, until there is more of it.
func TestAcceptedExposure(t *testing.T) {
	servers.Slow(t)
	g := chaos.NewGround(t, servers.PHPWeb)
	w := g.World(t, "local")
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	at := done.Site.Address
	e := w.Examiner
	for word, why := range map[string]string{"front-page": "nothing that can be accepted", "caches": "nothing to accept"} {
		_, err = e.Accept(ctx, done.Site, []string{"private-files", word})
		assert.ErrorContains(t, err, why)
	}
	assert.False(t, exposure(t, w, at, check.PrivateFiles).OK, "nothing was noted")
	x, err := w.Book.Find(ctx, at)
	require.NoError(t, err)
	_, err = e.Accept(ctx, x, []string{"private-files"})
	require.NoError(t, err)
	seen := exposure(t, w, at, check.PrivateFiles)
	assert.True(t, seen.OK && seen.Accepted, "%v", seen)
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, x.Folder, "log/more.txt"), []byte("more"), 0o644))
	assert.True(t, exposure(t, w, at, check.PrivateFiles).OK, "another file of the same part")
	updated, err := update.To(ctx, w.Desk, update.Request{Site: at, Release: "2.0.0"})
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, "good", updated.Site.Health)
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, x.Folder, "lib/notes.txt"), []byte("hello"), 0o644))
	seen = exposure(t, w, at, check.PrivateFiles)
	assert.False(t, seen.OK, "another part")
	assert.Contains(t, seen.Detail, "lib/notes.txt")
}

// Folders that the server would list answer with a page of ours where the app has none, which is no file that somebody
// added, goes along with updates and goes when the job is undone.
func TestFoldersAreNotListed(t *testing.T) {
	servers.Slow(t)
	g := chaos.NewGround(t, servers.Apache)
	w := g.World(t, "local")
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, "web/lockside/.htaccess"), []byte("Options +Indexes\n"), 0o644))
	before := w.Snapshot()
	for _, release := range []string{"2.5.0", "1.0.0"} { // the first fails its check
		done, err := w.Install(chaos.Request("lockside.localhost/talk", release))
		if release == "1.0.0" {
			require.NoError(t, err, "%v", fault.Of(err))
			assert.NotContains(t, strings.Join(done.Warnings, "\n"), check.Listings)
			continue
		}
		require.Error(t, err)
		sitetest.Same(t, before, w.Snapshot())
	}
	x, err := w.Book.Find(ctx, "lockside.localhost:"+port(g.Web)+"/talk")
	require.NoError(t, err)
	page := func(folder string) string {
		text, _ := os.ReadFile(filepath.Join(w.Root, x.Folder, folder, "index.html"))
		return string(text)
	}
	for _, folder := range []string{"lib", "log", "uploads", "cache"} {
		assert.Equal(t, release.IndexPage, page(folder), folder)
	}
	assert.NoFileExists(t, filepath.Join(w.Root, x.Folder, "index.html"))
	e, _ := sitetest.Examined(t, w, x.Address)
	assert.Empty(t, e.Added)
	_, err = update.To(ctx, w.Desk, update.Request{Site: x.Address, Release: "2.0.0"})
	require.NoError(t, err, "%v", fault.Of(err))
	for _, folder := range []string{"lib", "log", "uploads", "cache"} {
		assert.Equal(t, release.IndexPage, page(folder), folder)
	}
	assert.Empty(t, exposure(t, w, x.Address, check.Listings).Name)
}

// What the host is to set does what it says, and the app works with it.
func TestRulesForTheHost(t *testing.T) {
	servers.Slow(t)
	for n, serve := range []func(servers.Stage, []servers.Site, ...string) string{servers.PHPWeb, servers.Apache} {
		t.Run([]string{"nginx", "Apache"}[n], func(t *testing.T) {
			t.Parallel()
			g := chaos.NewGround(t, serve)
			w := g.World(t, "local")
			done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))
			s, err := w.Book.From(done.Site)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(filepath.Join(w.Root, done.Site.Folder, "logger.txt"), []byte("open"), 0o644))
			all, err := check.RulesFor(s)
			require.NoError(t, err)
			require.Len(t, all, 3)
			again := serve(t, []servers.Site{{Name: "lockside.localhost", Root: filepath.Join(w.Root, "web/lockside"),
				Rules: all[n].Text}})
			ask := func(name string) int {
				client := &http.Client{Transport: &http.Transport{DialContext: func(ctx context.Context, network,
					_ string) (net.Conn, error) {
					return (&net.Dialer{}).DialContext(ctx, network, again)
				}}}
				answer, err := client.Get("http://lockside.localhost/talk/" + name)
				require.NoError(t, err)
				defer answer.Body.Close()
				return answer.StatusCode
			}
			for name, open := range map[string]bool{"": true, "logger.txt": true, "log/": false, "log/readme.txt": false,
				"log": false, "lib/start.php": false, "config.php": false} {
				assert.Equal(t, open, ask(name) == http.StatusOK, "%s: %d", name, ask(name))
			}
		})
	}
}
