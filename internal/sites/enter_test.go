package sites_test

import (
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/sites"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// browser is somebody's, that finds the account's domains.
func browser(t *testing.T, w *sitetest.World, account string) *http.Client {
	t.Helper()
	a, err := w.Home.Account(account)
	require.NoError(t, err)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	to := hosting.Connections(a)
	return &http.Client{Jar: jar, Transport: sitetest.Dialing(to)}
}

// shown is what a browser gets at an address.
func shown(t *testing.T, by *http.Client, address string) string {
	t.Helper()
	answer, err := by.Get(address)
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return string(text)
}

// entered hands a session over, and sees that it is one; and that the page is
// good once, and for nobody without the half.
func entered(t *testing.T, w *sitetest.World, account, at, sign string) {
	t.Helper()
	before := w.Snapshot()
	in, err := w.Sites.Enter(ctx, at)
	require.NoError(t, err)
	hands, err := in.Hands(ctx)
	require.NoError(t, err)
	require.True(t, hands)
	address, values, err := in.Hand(ctx, "A browser/1.0")
	require.NoError(t, err)
	folder := filepath.Join(w.Root, in.Site.Folder)
	text, err := os.ReadFile(filepath.Join(folder, address[strings.LastIndex(address, "/")+1:]))
	require.NoError(t, err)
	assert.NotContains(t, string(text), in.Password.Reveal())
	assert.NotContains(t, string(text), values.Get("half"))

	stranger := browser(t, w, account)
	for _, wrong := range []url.Values{{}, {"half": {"x"}}, {"half": {values.Get("half") + "x"}}} {
		answer, err := stranger.PostForm(address, wrong)
		require.NoError(t, err)
		answer.Body.Close()
		assert.NotContains(t, shown(t, stranger, in.Site.AdminURL), sign)
		stranger = browser(t, w, account)
	}
	own := browser(t, w, account)
	answer, err := own.PostForm(address, values)
	require.NoError(t, err)
	answer.Body.Close()
	require.Equal(t, 200, answer.StatusCode)
	taken, err := in.Taken(ctx, time.Second)
	require.NoError(t, err)
	assert.True(t, taken)
	assert.Contains(t, shown(t, own, in.Site.AdminURL), sign)

	again, err := browser(t, w, account).PostForm(address, values)
	require.NoError(t, err)
	again.Body.Close()
	assert.Equal(t, 404, again.StatusCode)
	require.NoError(t, in.Close())
	sitetest.Same(t, before, w.Snapshot())
}

// Every demo app is entered, signed in, though each wants a token of its own page.
func TestEnters(t *testing.T) {
	w := sitetest.Demo(t)
	for app, sign := range map[string]string{"willowbench": "Sign out", "inkreach": "Sign out", "lampshelf": "Sign out",
		"towline": "Signed in as", "pennywharf": "Sign out", "slateroom": "Sign out"} {
		done, err := w.Install(sitetest.Request(app, sitetest.Apps[app]))
		require.NoError(t, err)
		t.Run(app, func(t *testing.T) { entered(t, w, "quillmere", done.Site.Address, sign) })
	}
}

// An app in PHP that wants a cookie and a token first; and one whose password was
// changed.
func TestEntersAppsInPHP(t *testing.T) {
	for server, serve := range map[string]func(servers.Stage, []servers.Site, ...string) string{
		"nginx": servers.PHPWeb, "Apache": servers.Apache} {
		t.Run(server, func(t *testing.T) {
			g := chaos.NewGround(t, serve)
			w := g.World(t, "local")
			done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
			require.NoError(t, err)
			entered(t, w, "quillmere", done.Site.Address, "Hello wharfinger")

			w.Query(done.Site, "UPDATE {tables}writers SET hash = 'x'")
			in, err := w.Sites.Enter(ctx, done.Site.Address)
			require.NoError(t, err)
			_, _, err = in.Hand(ctx, "A browser/1.0")
			require.ErrorContains(t, err, "does not sign in")
			assert.Equal(t, []string{"reveal", done.Site.Address, "--changed"}, fault.Calls(fault.Of(err).Remedy)[0])
			require.NoError(t, in.Close())
		})
	}
}

// An app may have no page of its own for its folder: what runs there is tried.
func TestEntersWithoutAnIndex(t *testing.T) {
	g := chaos.NewGround(t, servers.PHPWeb)
	w := g.World(t, "local")
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err)
	folder := filepath.Join(w.Root, done.Site.Folder)
	require.NoError(t, os.Rename(filepath.Join(folder, "index.php"), filepath.Join(folder, "board.php")))
	entered(t, w, "quillmere", done.Site.Address, "Hello wharfinger")
}

// Where PHP does not run there is no page, and nothing is left.
func TestNoPageToHandOver(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("willowbench", "lockside.localhost/forum"))
	require.NoError(t, err)
	folder := filepath.Join(w.Root, done.Site.Folder)
	before := w.Snapshot()
	require.NoError(t, os.Chmod(folder, 0o755))
	w.Demo.Standin.Web.Break("/forum/tivset-", 403)
	in, err := w.Sites.Enter(ctx, done.Site.Address)
	require.NoError(t, err)
	_, _, err = in.Hand(ctx, "x")
	require.ErrorIs(t, err, sites.ErrByHand)
	assert.Equal(t, done.Site.URL+"sign-in.page", in.Page)
	require.NoError(t, in.Close())
	sitetest.Same(t, before, w.Snapshot())
}
