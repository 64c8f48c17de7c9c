package debian_test

import (
	"archive/tar"
	"bytes"
	"context"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/debian"
	"tivset/internal/app/fetch"
	"tivset/internal/app/version"
	"tivset/internal/testing/mirror"
)

var (
	ctx   = context.Background()
	today = time.Date(2026, 11, 24, 8, 0, 0, 0, time.UTC)
)

// newMirror starts an archive, and what reads it: configured in both styles.
func newMirror(t *testing.T) (*mirror.Mirror, *debian.Archive) {
	t.Helper()
	m := mirror.New(t)
	etc := fstest.MapFS{
		"sources.list": {
			Data: []byte("# one line\ndeb [arch=amd64 signed-by=" + m.Keyring + "] " + m.URL + "/debian bookworm main\n" +
				"deb-src " + m.URL + "/debian bookworm main\ndeb cdrom:[x]/ bookworm main\ndeb " + m.URL + "/other stable main\n"),
		},
		"sources.list.d/fixes.sources": {Data: []byte("Types: deb\nURIs: " + m.URL + "/fixes/\nSuites: bookworm-security\n" +
			"Components: main contrib\nSigned-By: " + m.Keyring + "\n\n" +
			"Types: deb\nEnabled: no\nURIs: " + m.URL + "/off\nSuites: x\n" +
			"Components: main\n")},
	}
	sources, err := debian.Configured(etc)
	require.NoError(t, err)
	require.Len(t, sources, 3)
	return m, &debian.Archive{Client: http.DefaultClient, Folder: t.TempDir(), Sources: sources, Keyring: m.Keyring,
		Now: func() time.Time { return today }}
}

var tidebook = []mirror.File{
	{Name: "usr/share/tidebook/"},
	{Name: "usr/share/tidebook/index.php", Text: "<?php require '/usr/share/php/tides.php';"},
	{Name: "usr/share/tidebook/data", Link: "/var/lib/tidebook"},
	{Name: "var/lib/tidebook/"},
	{Name: "usr/share/tidebook/cache", Link: "/var/cache/tidebook"},
	{Name: "var/cache/tidebook/"},
	{
		Name: "var/lib/tidebook/readme.txt",
		Text: "data",
	},
	{Name: "usr/share/tidebook/lib.js", Link: "../javascript/lib/lib.js"},
	{Name: "usr/share/tidebook/old.sql", Text: "x"},
}

// The newest of a suite and its fixes is found and fetched; an index is read once a
// day, and a package once.
func TestFindsAndFetches(t *testing.T) {
	m, a := newMirror(t)
	old := m.Publish("/debian", "tidebook", "1.0-1", mirror.PackageOf(t, tidebook...))
	fixed := m.Publish("/fixes", "tidebook", "1.0-1+deb12u1",
		mirror.PackageOf(t, append(tidebook, mirror.File{Name: "usr/share/fixed"})...))
	m.Release("/debian", "bookworm", today.AddDate(0, 0, -3), today.AddDate(0, 0, 4), old)
	m.Release("/fixes", "bookworm-security", today.AddDate(0, 0, -1), today.AddDate(0, 0, 6), fixed)
	found, err := a.Find(ctx, "bookworm", "tidebook", "no-such")
	require.NoError(t, err)
	require.Len(t, found, 1)
	p := found["tidebook"]
	assert.Equal(t, "1.0-1+deb12u1", p.Version)
	assert.Equal(t, "bookworm-security", p.Suite)
	assert.Equal(t, "1.0", version.Upstream(version.OfPackage(p.Version)))
	assert.Equal(t, "1.1.12", version.Upstream(version.OfPackage("2:1.1.12+dfsg-8+deb12u2")))

	m.Cut = len(m.Files["/fixes/"+p.File])/3 + 1 // the line ends again and again: it goes on from there
	var last int64
	name, err := a.Get(fetch.Heard(ctx, func(n, _ int64) { last = n }), p)
	require.NoError(t, err)
	assert.Equal(t, p.Size, last)
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	assert.Equal(t, m.Files["/fixes/"+p.File], text)

	asked := len(m.Asked)
	_, err = a.Find(ctx, "bookworm", "no-such", "tidebook")
	require.NoError(t, err)
	_, err = a.Get(ctx, p)
	require.NoError(t, err)
	assert.Len(t, m.Asked, asked, "nothing is asked for twice")
	_, err = a.Find(ctx, "trixie", "tidebook")
	require.ErrorIs(t, err, debian.ErrNone)

	m.Deaf = true // two days later nobody answers: what was read is still valid
	a.Now = func() time.Time { return today.AddDate(0, 0, 2) }
	again, err := a.Find(ctx, "bookworm", "tidebook")
	require.NoError(t, err)
	assert.Equal(t, found, again)
	a.Now = func() time.Time { return today.AddDate(0, 0, 9) }
	_, err = a.Find(ctx, "bookworm", "tidebook")
	require.Error(t, err, "and then it is not")
}

// Keys by other names than Debian's are trusted for archives that the owner named.
func TestWhoseKeysAreTrusted(t *testing.T) {
	m, a := newMirror(t)
	m.Release("/debian", "bookworm", today.AddDate(0, 0, -3), today.AddDate(0, 0, 4),
		m.Publish("/debian", "tidebook", "1.0-1", mirror.PackageOf(t, tidebook...)))
	other := filepath.Join(t.TempDir(), "mine.gpg")
	text, err := os.ReadFile(m.Keyring)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(other, text, 0o644))
	a.Sources = []debian.Source{{URI: m.URL + "/debian/", Suites: []string{"bookworm"}, Components: []string{"main"},
		Keyring: other}}
	_, err = a.Find(ctx, "bookworm", "tidebook")
	require.ErrorIs(t, err, debian.ErrNone)
	a.Sources[0].Own = true
	found, err := a.Find(ctx, "bookworm", "tidebook")
	require.NoError(t, err)
	assert.Len(t, found, 1)
}

// What is not signed, out of date, older than before, or not what was signed is
// refused.
func TestMirrorsThatLie(t *testing.T) {
	m, a := newMirror(t)
	stanza := m.Publish("/debian", "tidebook", "1.0-1", mirror.PackageOf(t, tidebook...))
	good := func(days int) {
		m.Release("/debian", "bookworm", today.AddDate(0, 0, days), today.AddDate(0, 0, days+7), stanza)
	}
	find := func() error {
		_, err := a.Find(ctx, "bookworm", "tidebook")
		return err
	}
	good(-9)
	require.ErrorIs(t, find(), debian.ErrExpired)
	own := m.Key
	m.Key = mirror.NewKey(t, "Somebody")
	good(-1)
	require.ErrorIs(t, find(), debian.ErrUnsigned)
	m.Key = own
	good(-1)
	signed := m.Files["/debian/dists/bookworm/InRelease"]
	m.Files["/debian/dists/bookworm/InRelease"] = bytes.Replace(signed, []byte("Suite: bookworm"),
		[]byte("Suite: bookwarm"), 1)
	require.ErrorIs(t, find(), debian.ErrUnsigned)
	m.Files["/debian/dists/bookworm/InRelease"] = []byte("Origin: Debian\n")
	require.ErrorIs(t, find(), debian.ErrUnsigned)
	good(-1)
	list := "/debian/dists/bookworm/main/binary-amd64/Packages.xz"
	was := m.Files[list]
	m.Files[list] = append([]byte{}, was[:len(was)-1]...)
	require.Error(t, find(), "shorter than was signed")
	m.Files[list] = append(append([]byte{}, was...), 'x')
	require.ErrorContains(t, find(), "more than")
	m.Files[list] = was
	require.NoError(t, find())
	a.Now = func() time.Time { return today.AddDate(0, 0, 2) }
	good(-2)
	require.ErrorIs(t, find(), debian.ErrReplayed)
	good(1)
	require.NoError(t, find())

	found, err := a.Find(ctx, "bookworm", "tidebook")
	require.NoError(t, err)
	at := "/debian/" + found["tidebook"].File
	m.Files[at] = bytes.Replace(m.Files[at], []byte("control"), []byte("contral"), 1)
	_, err = a.Get(ctx, found["tidebook"])
	require.ErrorContains(t, err, "checksum differs")
	left, err := filepath.Glob(filepath.Join(a.Folder, "tidebook-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// The recipe makes the archive that an account would upload, the same every time.
func TestRecipes(t *testing.T) {
	dir := t.TempDir()
	put := func(name string, text []byte) string {
		full := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(full, text, 0o644))
		return full
	}
	app := put("app.deb", mirror.PackageOf(t, tidebook...))
	lib := put("lib.deb", mirror.PackageOf(
		t,
		mirror.File{Name: "usr/share/javascript/lib/"},
		mirror.File{
			Name: "usr/share/javascript/lib/lib.js",
			Text: "lib",
		},
		mirror.File{Name: "usr/share/php/tides.php", Text: "<?php"},
	))
	r := debian.Recipe{Take: map[string]string{"usr/share/tidebook": ".", "usr/share/php/tides.php": "lib/tides.php"},
		Without: []string{
			"*.sql",
		}, Change: []debian.Change{{File: "*.php", From: "'/usr/share/php/", To: "__DIR__ . '/lib/"}}}
	var first, second bytes.Buffer
	require.NoError(t, debian.Make(r, []string{app, lib}, &first))
	require.NoError(t, debian.Make(r, []string{lib, app}, &second))
	assert.Equal(t, first.Bytes(), second.Bytes())
	got := map[string]string{}
	in := tar.NewReader(&first)
	for {
		h, err := in.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		text, err := io.ReadAll(in)
		require.NoError(t, err)
		got[h.Name] = string(text)
	}
	assert.Equal(t, map[string]string{"index.php": "<?php require __DIR__ . '/lib/tides.php';", "data/readme.txt": "data",
		"cache/": "", "lib.js": "lib", "lib/tides.php": "<?php"}, got)

	require.ErrorContains(t, debian.Make(r, []string{app}, io.Discard),
		"the packages have nothing at usr/share/php/tides.php")
	delete(r.Take, "usr/share/php/tides.php")
	require.ErrorContains(t, debian.Make(r, []string{app}, io.Discard),
		"usr/share/javascript/lib/lib.js, which none of the packages has")
	r.Change[0].From = "/usr/local"
	require.ErrorContains(t, debian.Make(r, []string{app, lib}, io.Discard), "another than the recipe was written for")
	r.Take = map[string]string{"usr/share/else": "."}
	require.ErrorContains(t, debian.Make(r, []string{app, lib}, io.Discard), "the packages have nothing at usr/share/else")
	round := put("round.deb", mirror.PackageOf(t, mirror.File{Name: "a", Link: "/b"}, mirror.File{Name: "b", Link: "/a"}))
	require.ErrorContains(t, debian.Make(debian.Recipe{Take: map[string]string{"a": "."}}, []string{round}, io.Discard),
		"circle")
	require.Error(t, debian.Make(r, []string{put("no.deb", []byte("!<arch>\n"))}, io.Discard))
}

// An index that holds no longer is taken where the machine says so, as one with a frozen
// mirror has to: by the source's own option, or for all.
func TestFrozenMirrors(t *testing.T) {
	m, a := newMirror(t)
	m.Release("/debian", "bookworm", today.AddDate(0, 0, -30), today.AddDate(0, 0, -23),
		m.Publish("/debian", "tidebook", "1.0-1", mirror.PackageOf(t, tidebook...)))
	_, err := a.Find(ctx, "bookworm", "tidebook")
	require.ErrorIs(t, err, debian.ErrExpired)
	line := "deb " + m.URL + "/debian bookworm main\n"
	for name, files := range map[string]map[string]string{
		"an option": {"sources.list": strings.Replace(line, "deb ", "deb [check-valid-until=no] ", 1)},
		"a field": {"sources.list.d/a.sources": "Types: deb\nURIs: " + m.URL + "/debian\nSuites: bookworm\n" +
			"Components: main\nCheck-Valid-Until: no\n"},
		"for all": {"sources.list": line, "apt.conf.d/99frozen": "// frozen\nAcquire::Check-Valid-Until \"false\";\n"},
		"none":    {"sources.list": line, "apt.conf.d/99frozen": "Acquire::Check-Valid-Until \"true\";\n"},
	} {
		etc := fstest.MapFS{}
		for file, text := range files {
			etc[file] = &fstest.MapFile{Data: []byte(text)}
		}
		a.Sources, err = debian.Configured(etc)
		require.NoError(t, err)
		require.Len(t, a.Sources, 1, name)
		found, err := a.Find(ctx, "bookworm", "tidebook")
		if name == "none" {
			require.ErrorIs(t, err, debian.ErrExpired)
			continue
		}
		require.NoError(t, err, name)
		assert.Len(t, found, 1, name)
	}
}

// Files of the archive's own take the place of what a package has.
func TestFilesOfItsOwn(t *testing.T) {
	deb := filepath.Join(t.TempDir(), "a.deb")
	require.NoError(t, os.WriteFile(deb, mirror.PackageOf(t, mirror.File{Name: "usr/share/a/"},
		mirror.File{Name: "usr/share/a/data/"}, mirror.File{Name: "usr/share/a/lib/"},
		mirror.File{Name: "usr/share/a/lib/deep/"}, mirror.File{Name: "usr/share/a/lib/deep/one.php", Text: "'/usr/share/b'"},
		mirror.File{Name: "usr/share/a/index.php", Text: "theirs"}), 0o644))
	var out bytes.Buffer
	require.NoError(t, debian.Make(debian.Recipe{Take: map[string]string{"usr/share/a": "."},
		Put:    map[string]string{"data/.htaccess": "denied", "index.php": "ours"},
		Change: []debian.Change{{File: "**/*.php", From: "'/usr/share/b'", To: "'b'"}}}, []string{deb}, &out))
	got := map[string]string{}
	for r := tar.NewReader(&out); ; {
		h, err := r.Next()
		if err != nil {
			break
		}
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		got[h.Name] = string(text)
	}
	assert.Equal(t, map[string]string{"data/.htaccess": "denied", "index.php": "ours", "lib/deep/one.php": "'b'"}, got)
}

// Several who want the same package wait for whoever fetches it: it is fetched once, and
// never written by two.
func TestFetchedOnceForAll(t *testing.T) {
	m, a := newMirror(t)
	m.Release("/debian", "bookworm", today.AddDate(0, 0, -3), today.AddDate(0, 0, 4),
		m.Publish("/debian", "tidebook", "1.0-1", mirror.PackageOf(t, tidebook...)))
	found, err := a.Find(ctx, "bookworm", "tidebook")
	require.NoError(t, err)
	asked := len(m.Asked)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			_, err := a.Get(ctx, found["tidebook"])
			assert.NoError(t, err)
		})
	}
	all.Wait()
	assert.Len(t, m.Asked, asked+1)
}
