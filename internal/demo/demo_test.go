package demo_test

import (
	"net"
	"net/http"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/app/config"
	"tivset/internal/app/kit"
	"tivset/internal/demo"
	"tivset/internal/hosting/account"
	"tivset/internal/records/home"
	"tivset/internal/records/ledger"
)

// Started again in the same folder the demo is where it was.
func TestStartedAgain(t *testing.T) {
	dir := t.TempDir()
	first, err := demo.Start(dir)
	require.NoError(t, err)
	at := filepath.Join(first.Standin.Root, "web/quillmere")
	require.NoError(t, os.Remove(filepath.Join(at, "index.html"))) // set aside for a site
	require.NoError(t, os.WriteFile(filepath.Join(at, "index.page"), []byte("mine now"), 0o644))
	changed, err := first.Home.Account(demo.AccountName)
	require.NoError(t, err)
	changed.Mail = nil
	require.NoError(t, first.Home.PutAccount(changed))
	before, err := demo.Snapshot(first)
	require.NoError(t, err)
	require.NoError(t, first.Close())
	second, err := demo.Start(dir)
	require.NoError(t, err)
	defer second.Close()
	assert.Equal(t, first.Domains, second.Domains)
	after, err := demo.Snapshot(second)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	answer, err := http.Get("http://" + second.Standin.Web.Address())
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, http.StatusNotFound, answer.StatusCode, "no domain is called 127.0.0.1")
	// While it runs a second one in the same folder is refused, and changes nothing.
	_, err = demo.Start(dir)
	require.ErrorContains(t, err, "a demo is running in this folder")
	again, err := second.Home.Account(demo.AccountName)
	require.NoError(t, err)
	assert.Equal(t, second.Domains[0].URL, again.Domains[0].URL)
	assert.Nil(t, again.Mail, "what was changed in the account stays")
}

// Where a port is taken by now, a demo without sites gets another one; one with sites says why it cannot start.
func TestStartedAgainOnATakenPort(t *testing.T) {
	dir := t.TempDir()
	first, err := demo.Start(dir)
	require.NoError(t, err)
	at := first.Standin.Web.Address()
	l, err := ledger.Open(t.Context(), first.Home.Ledger())
	require.NoError(t, err)
	require.NoError(t, first.Close())
	other, err := net.Listen("tcp", at)
	require.NoError(t, err)
	defer other.Close()
	second, err := demo.Start(dir)
	require.NoError(t, err)
	assert.NotEqual(t, at, second.Standin.Web.Address())
	moved := second.Standin.Web.Address()
	require.NoError(t, second.Close())
	require.NoError(t, l.PutSite(t.Context(), ledger.Site{Address: "lockside.localhost/forum"}))
	require.NoError(t, l.Close())
	again, err := net.Listen("tcp", moved)
	require.NoError(t, err)
	defer again.Close()
	_, err = demo.Start(dir)
	require.ErrorContains(t, err, "taken by another program")
}

func TestLeavesOtherHomesAlone(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, home.At(dir).PutAccount(&account.Account{Name: "mine"}))
	_, err := demo.Start(dir)
	assert.ErrorContains(t, err, "not the demo's")
	assert.NoFileExists(t, filepath.Join(dir, "config/catalogues.yaml"))
}

func TestCatalogueIsTheSameEachTime(t *testing.T) {
	var trees []string
	for range 2 {
		dir := t.TempDir()
		require.NoError(t, demo.WriteCatalogue(dir))
		text, err := os.ReadFile(filepath.Join(dir, "willowbench/kit.yaml"))
		require.NoError(t, err)
		assert.NotContains(t, string(text), "SHA256-OF")
		trees = append(trees, string(text))
	}
	assert.Equal(t, trees[0], trees[1])
}

// Between them the demo apps use every kind of question, every usual extra and
// every configuration format, with two releases or more each.
func TestAppsShowEverything(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	folders, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, folders, 6)
	kinds, extras, formats := map[string]bool{}, map[string]bool{}, map[string]bool{}
	secrets, conditions, patterns := 0, 0, 0
	for _, f := range folders {
		k, err := kit.Read(os.DirFS(filepath.Join(dir, f.Name())), f.Name())
		require.NoError(t, err)
		assert.GreaterOrEqual(t, len(k.Releases), 2, k.App)
		assert.NotEmpty(t, k.About, k.App)
		for _, q := range k.Questions {
			kinds[q.Kind] = true
			if q.Secret {
				secrets++
			}
			if q.NeededIf+q.AskedIf != "" {
				conditions++
			}
			if q.Pattern != "" {
				patterns++
			}
		}
		for _, e := range k.Extras {
			extras[e.ID] = true
		}
		for _, c := range k.Config {
			formats[c.Format] = true
		}
	}
	for _, kind := range answer.Kinds {
		assert.True(t, kinds[kind], kind)
	}
	for _, format := range config.Formats() {
		if format != "text" { // which no reader could take for anything else
			assert.True(t, formats[format], format)
		}
	}
	for _, extra := range []string{"theme", "sample", "languages", "extensions", "lockout", "search-engines"} {
		assert.True(t, extras[extra], extra)
	}
	assert.True(t, secrets > 0 && conditions > 0 && patterns > 0)
}
