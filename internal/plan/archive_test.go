package plan_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
)

// exchange puts another archive in the place of Inkreach's newest; with sum,
// the kit gets the new checksum too.
func exchange(t *testing.T, w *sitetest.World, sum bool, entry string) {
	t.Helper()
	dir := filepath.Join(w.Demo.Folder, "demo/catalogue/inkreach")
	name := filepath.Join(dir, "inkreach-1.4.0.tar.gz")
	file, err := os.Create(name)
	require.NoError(t, err)
	hash := sha256.New()
	z := gzip.NewWriter(io.MultiWriter(file, hash))
	out := tar.NewWriter(z)
	require.NoError(t, out.WriteHeader(&tar.Header{Name: entry, Mode: 0o644}))
	require.NoError(t, out.Close())
	require.NoError(t, z.Close())
	require.NoError(t, file.Close())
	if sum {
		kit := filepath.Join(dir, "kit.yaml")
		text, err := os.ReadFile(kit)
		require.NoError(t, err)
		first := regexp.MustCompile(`inkreach-1\.4\.0\.tar\.gz, sha256: [0-9a-f]{64}`)
		text = first.ReplaceAll(text, []byte("inkreach-1.4.0.tar.gz, sha256: "+hex.EncodeToString(hash.Sum(nil))))
		require.NoError(t, os.WriteFile(kit, text, 0o644))
	}
}

func TestArchivesThatWillNotDo(t *testing.T) {
	for name, c := range map[string]struct {
		sum          bool
		entry, words string
	}{
		"another one":    {false, "inkreach-1.4.0/index.page", "is not the one that the kit names"},
		"climbs out":     {true, "inkreach-1.4.0/../../../etc/x", "the archive is not safe"},
		"nothing inside": {true, "other/index.page", "the archive is not safe"},
	} {
		w := sitetest.Demo(t)
		before := w.Snapshot()
		exchange(t, w, c.sum, c.entry)
		_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
		require.ErrorContains(t, err, c.words, name)
		assert.Equal(t, fault.Failed, fault.Of(err).Kind)
		assert.NotEmpty(t, fault.Of(err).Remedy)
		sitetest.Same(t, before, w.Snapshot())
		_, err = w.Planner.Plan(context.Background(), sitetest.Request("willowbench", "lockside.localhost/forum"))
		assert.NoError(t, err, "other apps are not concerned")
	}
}

// An archive at an address is fetched over https, verified, and kept.
func TestDownload(t *testing.T) {
	w := sitetest.Demo(t)
	dir := filepath.Join(w.Demo.Folder, "demo/catalogue/inkreach")
	archive, err := os.ReadFile(filepath.Join(dir, "inkreach-1.4.0.tar.gz"))
	require.NoError(t, err)
	var answer http.HandlerFunc
	asked := 0
	server := httptest.NewTLSServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		asked++
		answer(rw, r)
	}))
	defer server.Close()
	w.Archives.Client = server.Client()
	kit, err := os.ReadFile(filepath.Join(dir, "kit.yaml"))
	require.NoError(t, err)
	kit = bytes.Replace(kit, []byte("from: inkreach-1.4.0.tar.gz"), []byte("from: "+server.URL+"/inkreach-1.4.0.tar.gz"),
		1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "kit.yaml"), kit, 0o644))
	request := sitetest.Request("inkreach", "lockside.localhost/journal")
	for words, h := range map[string]http.HandlerFunc{
		"404 Not Found":                     http.NotFound,
		"is not the one that the kit names": func(rw http.ResponseWriter, _ *http.Request) { _, _ = rw.Write(archive[1:]) },
		"unexpected EOF": func(rw http.ResponseWriter, _ *http.Request) {
			rw.Header().Set("Content-Length", "99999")
			_, _ = rw.Write(archive[:99])
		},
	} {
		answer = h
		_, err := w.Install(request)
		require.ErrorContains(t, err, words)
		assert.Equal(t, fault.Failed, fault.Of(err).Kind)
	}
	answer = func(rw http.ResponseWriter, _ *http.Request) { _, _ = rw.Write(archive) }
	_, err = w.Install(request)
	require.NoError(t, err)
	fetched := asked
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/again"))
	require.NoError(t, err)
	assert.Equal(t, fetched, asked, "the second time it is at hand")
	w.Archives.Client = http.DefaultClient // which does not know the server's certificate
	require.NoError(t, os.RemoveAll(w.Home.Archives()))
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/third"))
	assert.ErrorContains(t, err, "certificate")
}

func TestOlderReleaseByName(t *testing.T) {
	w := sitetest.Demo(t)
	r := sitetest.Request("inkreach", "lockside.localhost/journal")
	r.Release = "1.3.2"
	done, err := w.Install(r)
	require.NoError(t, err)
	assert.Equal(t, "1.3.2", done.Site.Release)
	assert.Equal(t, "1.4.0", done.Site.Newer)
	text, err := os.ReadFile(filepath.Join(w.Root, "web/lockside/journal/lib/release.txt"))
	require.NoError(t, err)
	assert.Equal(t, "1.3.2\n", string(text))
}

// The database user of a site may not make databases: as an account's admin it
// is refused before anything is touched.
func TestDatabaseUserWithoutTheRight(t *testing.T) {
	sitetest.OnBoth(t, func(t *testing.T, w *sitetest.World) {
		done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
		require.NoError(t, err)
		creds, err := w.Book.Reveal(context.Background(), done.Site.Address)
		require.NoError(t, err)
		w.EditAccount(func(a *account.Account) {
			a.Databases[0].Admin = &account.Login{User: done.Site.Database.User, Password: "plain:" + creds.Data.Reveal()}
		})
		before := ""
		if w.Real == nil {
			before = w.Snapshot()
		}
		_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/second"))
		require.ErrorContains(t, err, "lacks a right")
		assert.NotContains(t, err.Error(), creds.Data.Reveal())
		if w.Real == nil {
			sitetest.Same(t, before, w.Snapshot())
		}
	})
}

// The account has no server for the app, or none at all.
func TestNoServer(t *testing.T) {
	w := sitetest.Demo(t)
	w.EditAccount(func(a *account.Account) { a.Databases = nil })
	_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.ErrorContains(t, err, "no database server that Inkreach can use")
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	w.EditAccount(func(a *account.Account) { a.Domains[1].Folder = "web/nowhere" })
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	assert.ErrorContains(t, err, "document root of lockside.localhost is not there")
}
