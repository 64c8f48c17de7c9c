package author_test

import (
	"context"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/author"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/debian"
	"tivset/internal/app/kit"
	"tivset/internal/app/release"
	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/testing/mirror"
)

var (
	ctx   = context.Background()
	today = time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
)

func writer(t *testing.T) *author.Author {
	t.Helper()
	return &author.Author{Now: func() time.Time { return today }, Archives: &release.Archives{Folder: t.TempDir(),
		Client: http.DefaultClient, Debian: &debian.Archive{Now: func() time.Time { return today }}}}
}

func readKit(t *testing.T, dir string) *kit.Kit {
	t.Helper()
	k, err := kit.Read(catalogue.Folder("", dir).Files, dir)
	require.NoError(t, err, "%v", fault.Of(err).Problems)
	return k
}

// Each app of the demo gives a draft that can be read and that fits its archive, begun
// from its archive, from its unpacked folder, and from an address.
func TestDraftsOfArchives(t *testing.T) {
	kits, into := t.TempDir(), t.TempDir()
	require.NoError(t, demo.WriteCatalogue(kits))
	served := httptest.NewTLSServer(http.FileServer(http.Dir(kits)))
	t.Cleanup(served.Close)
	a := writer(t)
	a.Archives.Client = served.Client()
	archives, err := filepath.Glob(filepath.Join(kits, "*", "*.tar.gz"))
	require.NoError(t, err)
	require.NotEmpty(t, archives)
	fits := func(dir, released string) {
		t.Helper()
		k := readKit(t, dir)
		assert.Equal(t, released, k.Newest().Release)
		assert.NotEqual(t, "unknown", k.Newest().Archive.Top)
		problems, err := a.Archives.Examine(ctx, catalogue.Entry{Kit: k}, k.Newest())
		require.NoError(t, err, "%v", fault.Of(err))
		assert.Empty(t, problems, dir)
	}
	for i, archive := range archives {
		name := strings.TrimSuffix(filepath.Base(archive), ".tar.gz")
		app, released, _ := strings.Cut(name, "-")
		dir := filepath.Join(into, app+strings.Repeat("x", i))
		d, err := a.New(ctx, dir, archive)
		require.NoError(t, err, "%v", fault.Of(err))
		assert.NotEmpty(t, d.Found)
		fits(dir, released)
		if i == 0 {
			_, err := a.New(ctx, dir+"-far", served.URL+strings.TrimPrefix(archive, kits))
			require.NoError(t, err, "%v", fault.Of(err))
			fits(dir+"-far", released)
			assert.Contains(t, readKit(t, dir+"-far").Newest().Archive.From, served.URL)
		}
	}
	folder := filepath.Join(t.TempDir(), "tidewall-2.0.3")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "lib"), 0o755))
	require.NoError(t,
		os.WriteFile(filepath.Join(folder, "lib/version.php"), []byte("<?php const VERSION = '2.0.3';"), 0o644))
	for _, name := range []string{"one", "two"} { // the same bytes each time
		_, err = a.New(ctx, filepath.Join(into, name), folder)
		require.NoError(t, err, "%v", fault.Of(err))
		fits(filepath.Join(into, name), "2.0.3")
		require.NoError(t, os.Chtimes(filepath.Join(folder, "lib/version.php"), today, today))
	}
	assert.Equal(t, readKit(t, filepath.Join(into, "one")).Newest().Archive.SHA256,
		readKit(t, filepath.Join(into, "two")).Newest().Archive.SHA256)
}

// A kit that is begun from nothing can be read; what is in the way, or no app, is refused
// and nothing is left.
func TestBeginningsThatAreRefused(t *testing.T) {
	a, into := writer(t), t.TempDir()
	_, err := a.New(ctx, filepath.Join(into, "tidewall"), "")
	require.NoError(t, err, "%v", fault.Of(err))
	readKit(t, filepath.Join(into, "tidewall"))
	text := filepath.Join(into, "notes.txt")
	require.NoError(t, os.WriteFile(text, []byte("no archive"), 0o600))
	for _, c := range []struct{ name, from, says string }{
		{"tidewall", "", "something already"},
		{"Tide Wall", "", "cannot be called"},
		{"other", filepath.Join(into, "none.zip"), "nothing is there"},
		{"other", text, "no archive"},
		{"other", "http://tides.localhost/x.zip", "nothing is there"},
		{"other", "debian:nothing", "no suite"},
	} {
		_, err := a.New(ctx, filepath.Join(into, c.name), c.from)
		require.ErrorContains(t, err, c.says)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind)
		assert.NotEmpty(t, fault.Of(err).Remedy)
	}
	linked := filepath.Join(t.TempDir(), "linked")
	require.NoError(t, os.Mkdir(linked, 0o755))
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(linked, "name")))
	_, err = a.New(ctx, filepath.Join(into, "other"), linked)
	require.ErrorContains(t, err, "is a link")
	assert.Contains(t, fault.Of(err).Remedy, "Nothing was written")
	left, err := os.ReadDir(into)
	require.NoError(t, err)
	assert.Len(t, left, 2, "%v", left)
}

// A draft of a Debian package has a recipe by which its archive can be made, with the
// packages that it has links into; what leads nowhere is a question.
func TestDraftOfAPackage(t *testing.T) {
	m := mirror.New(t)
	a := writer(t)
	a.Archives.Debian = &debian.Archive{Client: http.DefaultClient, Folder: t.TempDir(), Keyring: m.Keyring,
		Now: func() time.Time { return today }, Sources: []debian.Source{{URI: m.URL + "/debian/",
			Suites: []string{"bookworm"}, Components: []string{"main"}, Keyring: m.Keyring}}}
	app := m.Publish("/debian", "tidebook", "1:2.4+dfsg-1", mirror.PackageOf(t,
		mirror.File{Name: "usr/share/tidebook/"}, mirror.File{Name: "usr/share/tidebook/www/"},
		mirror.File{Name: "usr/share/tidebook/www/index.php", Text: "<?php define('TIDEBOOK_VERSION', '2.4');"},
		mirror.File{Name: "usr/share/tidebook/www/tides.js", Link: "/usr/share/javascript/tides/tides.js"},
		mirror.File{Name: "usr/share/tidebook/www/config.php", Link: "/etc/tidebook/config.php"},
		mirror.File{Name: "var/lib/tidebook/"}, mirror.File{Name: "var/lib/tidebook/data/"},
		mirror.File{Name: "usr/share/doc/tidebook/copyright", Text: "Files: *\nLicense: GPL-2+\n"}))
	library := m.Publish(
		"/debian",
		"libjs-tides",
		"1-1",
		mirror.PackageOf(t, mirror.File{Name: "usr/share/javascript/tides/"},
			mirror.File{Name: "usr/share/javascript/tides/tides.js", Text: "x"}),
	)
	m.Release("/debian", "bookworm", today.AddDate(0, 0, -1), today.AddDate(0, 0, 6), app, library)
	dir := filepath.Join(t.TempDir(), "tidebook")
	d, err := a.New(ctx, dir, "debian:tidebook")
	require.NoError(t, err, "%v", fault.Of(err))
	k := readKit(t, dir)
	from := k.Archive.Debian
	assert.Equal(t, []string{"bookworm"}, from.Suites)
	assert.Equal(t, []string{"libjs-tides"}, from.Also)
	assert.Equal(t, map[string]string{"usr/share/tidebook/www": ".", "var/lib/tidebook/data": "data"}, from.Take)
	assert.Equal(t, []string{"config.php"}, from.Without)
	assert.Equal(t, "GPL-2+", k.Licence.Name)
	assert.Equal(t, "tides and their times", k.Summary)
	require.NoError(t, a.Archives.LookUp(ctx, k))
	problems, err := a.Archives.Examine(ctx, catalogue.Entry{Kit: k}, k.Newest())
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Empty(t, problems)
	assert.Contains(t, d.Files["kit.yaml"], "lead into packages that are not taken")
	_, err = a.New(ctx, dir+"2", "debian:tidebook/trixie")
	require.ErrorContains(t, err, "no suite that was looked at")
}

// without takes the newest release of a demo's kit away.
func without(t *testing.T, dir, released string) string {
	t.Helper()
	name := filepath.Join(dir, "kit.yaml")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	before, rest, found := strings.Cut(string(text), "  - release: "+released)
	require.True(t, found)
	_, after, found := strings.Cut(rest, "  - release: ")
	require.True(t, found)
	require.NoError(t, os.WriteFile(name, []byte(before+"  - release: "+after), 0o644))
	archive := filepath.Join(t.TempDir(), "willowbench-"+released+".tar.gz")
	require.NoError(t, os.Rename(filepath.Join(dir, "willowbench-"+released+".tar.gz"), archive))
	return archive
}

// A release that is added is the one that was taken away, and says what changed; the rest
// of the kit stays as it is written.
func TestReleaseIsAdded(t *testing.T) {
	a, dir := writer(t), t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	dir = filepath.Join(dir, "willowbench")
	whole := readKit(t, dir)
	archive := without(t, dir, "2.4.1")
	before, err := os.ReadFile(filepath.Join(dir, "kit.yaml"))
	require.NoError(t, err)

	for _, c := range []struct{ release, archive, says string }{
		{"2.3.7", archive, "is not newer than 2.3.7"},
		{"2.4.1", filepath.Join(dir, "kit.yaml"), "no archive that can be used"},
		{"2.4.1", "none.zip", "cannot be read"},
	} {
		_, err := a.Release(ctx, author.Adding{Dir: dir, Release: c.release, Archive: c.archive})
		require.ErrorContains(t, err, c.says)
	}
	same, err := os.ReadFile(filepath.Join(dir, "kit.yaml"))
	require.NoError(t, err)
	require.Equal(t, before, same)

	added, err := a.Release(ctx, author.Adding{Dir: dir, Release: "2.4.1", Archive: archive})
	require.NoError(t, err, "%v", fault.Of(err).Problems)
	assert.True(t, added.Compared)
	assert.Equal(t, "features", added.Level)
	k := readKit(t, dir)
	assert.Equal(t, whole.Newest().Archive, k.Newest().Archive)
	assert.Equal(t, whole.Versions(), k.Versions())
	assert.Equal(t, k.Releases[1].Needs, k.Newest().Needs)
	after, err := os.ReadFile(filepath.Join(dir, "kit.yaml"))
	require.NoError(t, err)
	for line := range strings.Lines(string(before)) {
		assert.Contains(t, string(after), line)
	}
	wrong, err := a.Release(ctx, author.Adding{Dir: dir, Release: "2.5.0", Archive: archive})
	require.NoError(t, err)
	assert.Equal(t, []string{"recognise: by its marks it is 2.4.1"}, wrong.Look)
}
