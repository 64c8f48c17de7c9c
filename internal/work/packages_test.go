package work_test

import (
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/debian"
	"tivset/internal/fault"
	"tivset/internal/testing/mirror"
	"tivset/internal/testing/restless"
	"tivset/internal/testing/testserver"
	"tivset/internal/work/repair"
	"tivset/internal/work/update"
)

// An app of a Debian archive is installed, updated to the release of the next suite
// and repaired without a file fetched by hand. When its packages are mended meanwhile
// a site is still compared with what it was made of.
func TestAppsOfADebianArchive(t *testing.T) {
	g, m := restless.NewGround(t, testserver.PHPWeb), mirror.New(t)
	w := g.WorldOf(t, "local", restless.Packed(t))
	_, err := w.Install(restless.Request("lockside.localhost/talk", "1.0.0"))
	require.ErrorContains(t, err, "this machine knows none that has it")
	assert.Contains(t, fault.Of(err).Remedy, "deb ADDRESS bookworm main")

	w.Archives.Debian = &debian.Archive{Client: http.DefaultClient, Folder: t.TempDir(), Keyring: m.Keyring,
		Sources: []debian.Source{{URI: m.URL + "/debian/", Suites: []string{"bookworm"}, Components: []string{"main"}}},
		Now:     time.Now}
	publish := func(release, revision string, more ...mirror.File) {
		app, lib := restless.Packages(t, release)
		m.Release("/debian", restless.Suites[release], time.Now().Add(-time.Hour), time.Now().AddDate(0, 0, 7),
			m.Publish("/debian", "restless", release+"+dfsg-"+revision, mirror.PackageOf(t, append(app, more...)...)),
			m.Publish("/debian", "restless-lib", release+"-1", mirror.PackageOf(t, lib...)))
	}
	publish("1.0.0", "1")
	publish("2.0.0", "1")
	done, err := w.Install(restless.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	x := done.Site
	assert.NoFileExists(t, filepath.Join(w.Root, x.Folder, "README.Debian"))
	text, err := os.ReadFile(filepath.Join(w.Root, x.Folder, "write.php"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "// of .\n")

	publish("1.0.0", "1+deb12u1", mirror.File{Name: "usr/share/restless/mended.txt", Text: "mended"})
	w.Archives.Debian.Folder = t.TempDir() // as a day later: the index is read anew
	e, err := w.Examiner.Check(ctx, x)
	require.NoError(t, err)
	assert.Empty(t, append(append(e.Changed, e.Missing...), e.Added...))
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, x.Folder, "lib/release.php"), []byte("<?php"), 0o644))
	_, err = repair.Repair(ctx, w.Desk, x.Address)
	require.NoError(t, err, "%v", fault.Of(err))
	updated, err := update.To(ctx, w.Desk, update.Request{Site: x.Address, Release: "2.0.0"})
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, "2.0.0", updated.Site.Release)

	// The suite goes on to another release: the kit's is not there any more.
	w.Archives.Folder = t.TempDir()
	app, lib := restless.Packages(t, "2.0.0")
	m.Release("/debian", "bookworm", time.Now().Add(-time.Minute), time.Now().AddDate(0, 0, 7),
		m.Publish("/debian", "restless", "1.1.0-1", mirror.PackageOf(t, app...)),
		m.Publish("/debian", "restless-lib", "1.1.0-1", mirror.PackageOf(t, lib...)))
	w.Archives.Debian.Folder = t.TempDir()
	_, err = w.Install(restless.Request("lockside.localhost/other", "1.0.0"))
	require.ErrorContains(t, err, "the suite bookworm has Restless 1.1.0, not 1.0.0")
}
