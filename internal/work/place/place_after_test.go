package place_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/place"
)

// A copy or a move goes only where nothing is, and only to where a domain leads.
func TestCopiesThatWillNotDo(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	_, err = w.Install(sitetest.Request("lampshelf", "lockside.localhost/pictures"))
	require.NoError(t, err)
	away := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(away.Close)
	w.EditAccount(func(a *account.Account) {
		a.Domains = append(a.Domains, account.Domain{Name: "away.localhost", Folder: "web/chandlery",
			URL: "http://away.localhost:1234", Connect: strings.TrimPrefix(away.URL, "http://")})
	})
	before := w.Snapshot()
	for at, words := range map[string]string{
		"lockside.localhost/pictures": "a site is at this address already",
		"lockside.localhost/journal":  "a site is at this address already",
		"quillmere.localhost":         "something is in the way", "elsewhere.example/x": "domain",
	} {
		for _, move := range []bool{false, true} {
			_, err := place.Look(ctx, w.Desk, place.Request{Site: done.Site.Address, At: at, Move: move})
			require.ErrorContains(t, err, words, at)
		}
	}
	err = sitetest.CopyOf(w, place.Request{Site: done.Site.Address, At: "away.localhost/x", Move: true})
	require.ErrorContains(t, err, "does not lead to this folder")
	sitetest.Same(t, before, w.Snapshot())
	e, _ := sitetest.Examined(t, w, done.Site.Address)
	assert.True(t, e.OK)
}

// The journal of a copy holds no secret among the answers that came with it.
func TestCopiesKeepSecrets(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("towline", "lockside.localhost/help"))
	require.NoError(t, err)
	const planted = "planted-and-to-be-found-nowhere"
	copied := w.Copy(place.Request{Site: done.Site.Address, At: "chandlery.localhost/try",
		Answers: answer.Given{"mail-password": planted, "title": "A try"}})
	assert.Equal(t, "A try", copied.Site.Title)
	journals, err := filepath.Glob(filepath.Join(w.Home.Journals(), "*.jsonl"))
	require.NoError(t, err)
	require.Len(t, journals, 2)
	for _, name := range journals {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.NotContains(t, string(text), planted)
	}
	assert.Contains(t, w.Fetch(copied.Site.URL), "A try")
}

// Two accounts have the domain of a copy: the site's own one is meant.
func TestTheSitesOwnAccountIsMeant(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	own, err := w.Home.Account(done.Site.Account)
	require.NoError(t, err)
	other := *own
	other.Name = "another"
	require.NoError(t, w.Home.PutAccount(&other))
	p, err := place.Look(ctx, w.Desk, place.Request{Site: "journal", At: "lockside.localhost/try"})
	require.NoError(t, err)
	defer p.Close()
	assert.Equal(t, own.Name, p.Account)
	_, err = w.Book.Account("", "elsewhere.localhost/x")
	assert.ErrorContains(t, err, "no account has a domain of this address")
	_, err = w.Book.Account("", "lockside.localhost/x")
	assert.ErrorContains(t, err, "several accounts could be meant")
}
