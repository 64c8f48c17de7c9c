package work_test

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/debian"
	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/mirror"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/repair"
	"tivset/internal/work/update"
)

// An app of a Debian archive is installed, updated to the release of the next suite
// and repaired without a file fetched by hand. When its packages are mended meanwhile
// a site is still compared with what it was made of.
func TestAppsOfADebianArchive(t *testing.T) {
	g, m := chaos.NewGround(t, servers.PHPWeb), mirror.New(t)
	source := chaos.Packed(t)
	w := g.WorldOf(t, "local", source)
	_, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.ErrorContains(t, err, "this machine knows none that has bookworm, trixie")
	assert.Contains(t, fault.Of(err).Remedy, "deb ADDRESS bookworm main")

	w.Archives.Debian = &debian.Archive{Client: http.DefaultClient, Folder: t.TempDir(), Keyring: m.Keyring,
		Sources: []debian.Source{{URI: m.URL + "/debian/", Suites: []string{"bookworm"}, Components: []string{"main"}}},
		Now:     time.Now}
	publish := func(release, revision string, more ...mirror.File) {
		app, lib := chaos.Packages(t, release)
		m.Release("/debian", chaos.Suites[release], time.Now().Add(-time.Hour), time.Now().AddDate(0, 0, 7),
			m.Publish("/debian", "restless", release+"+dfsg-"+revision, mirror.PackageOf(t, append(app, more...)...)),
			m.Publish("/debian", "restless-lib", release+"-1", mirror.PackageOf(t, lib...)))
	}
	publish("1.0.0", "1")
	publish("2.0.0", "1")
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	x := done.Site
	assert.Equal(t, "1.0.0-1", x.Release)
	assert.NoFileExists(t, filepath.Join(w.Root, x.Folder, "README.Debian"))
	text, err := os.ReadFile(filepath.Join(w.Root, x.Folder, "write.php"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "// of .\n")
	asked := len(m.Asked)
	assert.Equal(t, "2.0.0-1, breaking", newest(t, w, x.Address))
	_, err = w.Examiner.Check(ctx, x)
	require.NoError(t, err)
	assert.Len(t, m.Asked, asked, "the indexes are read once a day")

	// The kit makes something else of the same packages: the site is still what it was
	// made of.
	file := filepath.Join(fmt.Sprint(source.Files), "restless/kit.yaml")
	text, err = os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, bytes.Replace(text, []byte("    take: "),
		[]byte("    put: {more.txt: more}\n    take: "), 1), 0o644))
	e, err := w.Examiner.Check(ctx, x)
	require.NoError(t, err)
	assert.Empty(t, append(append(e.Changed, e.Missing...), e.Added...))

	// The package is mended: a site is still compared with what it was made of, and what
	// mends it is urgent.
	app, lib := chaos.Packages(t, "1.0.0")
	app = append(app, mirror.File{Name: "usr/share/restless/mended.txt", Text: "mended"})
	m.Release("/debian", "bookworm-security", time.Now().Add(-time.Hour), time.Now().AddDate(0, 0, 7),
		m.Publish("/debian", "restless", "1.0.0+dfsg-1+deb12u1", mirror.PackageOf(t, app...)),
		m.Publish("/debian", "restless-lib", "1.0.0-1", mirror.PackageOf(t, lib...)))
	w.Archives.Debian.Sources = append(w.Archives.Debian.Sources, debian.Source{URI: m.URL + "/debian/",
		Suites: []string{"bookworm-security"}, Components: []string{"main"}})
	w.Archives.Debian.Folder = t.TempDir() // as a day later: the index is read anew
	e, err = w.Examiner.Check(ctx, x)
	require.NoError(t, err)
	assert.Empty(t, append(append(e.Changed, e.Missing...), e.Added...))
	assert.Contains(t, saidOf(e, "updates"), "fixes a security hole")
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, x.Folder, "lib/release.php"), []byte("<?php"), 0o644))
	_, err = repair.Repair(ctx, w.Desk, x.Address)
	require.NoError(t, err, "%v", fault.Of(err))
	mended, err := update.To(ctx, w.Desk, update.Request{Site: x.Address, Release: "1.0.0"})
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, "1.0.0-1+deb12u1", mended.Site.Release)
	assert.FileExists(t, filepath.Join(w.Root, x.Folder, "mended.txt"))
	assert.False(t, found(t, w, x.Address).Urgent)
	updated, err := update.To(ctx, w.Desk, update.Request{Site: x.Address, Release: "2.0.0"})
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, "2.0.0-1", updated.Site.Release)
	_, err = update.To(ctx, w.Desk, update.Request{Site: x.Address})
	require.ErrorIs(t, err, update.ErrCurrent)

	// Nobody answers: what was known holds. The app vanishes: its site lives on.
	w.Archives.Debian.Folder, m.Deaf = t.TempDir(), true
	_, err = update.To(ctx, w.Desk, update.Request{Site: x.Address})
	require.ErrorIs(t, err, update.ErrCurrent)
	e, err = w.Examiner.Check(ctx, found(t, w, x.Address))
	require.NoError(t, err)
	assert.Contains(t, saidOf(e, "updates"), "could not be looked up")
	m.Deaf = false
	for _, suite := range []string{"bookworm", "bookworm-security", "trixie"} {
		m.Release("/debian", suite, time.Now().Add(-time.Minute), time.Now().AddDate(0, 0, 7),
			m.Publish("/debian", "another", "1.1.0-1", mirror.PackageOf(t, app...)))
	}
	w.Archives.Debian.Folder = t.TempDir()
	e, err = w.Examiner.Check(ctx, found(t, w, x.Address))
	require.NoError(t, err)
	assert.Empty(t, append(append(e.Changed, e.Missing...), e.Added...))

	// On another machine nothing of it was kept.
	w.Archives.Folder, w.Archives.Debian.Folder = t.TempDir(), t.TempDir()
	_, err = w.Install(chaos.Request("lockside.localhost/other", "1.0.0"))
	require.ErrorContains(t, err, "none of the suites bookworm, trixie has a package restless any more")
	_, err = repair.Repair(ctx, w.Desk, x.Address)
	require.ErrorContains(t, err, "is not in the Debian archive any more")
}

// Another machine has nothing of a release that its suite has no longer: the site is
// checked all the same, told from what it cannot be compared with, and goes to the
// release that there is, as the remedy says.
func TestAnotherMachineWithoutTheRelease(t *testing.T) {
	t.Parallel()
	g, m := chaos.NewGround(t, servers.PHPWeb), mirror.New(t)
	w := g.WorldOf(t, "local", chaos.Packed(t))
	w.Archives.Debian = &debian.Archive{Client: http.DefaultClient, Folder: t.TempDir(), Keyring: m.Keyring,
		Sources: []debian.Source{{URI: m.URL + "/debian/", Suites: []string{"bookworm"}, Components: []string{"main"}}},
		Now:     time.Now}
	app, lib := chaos.Packages(t, "1.0.0")
	publish := func(revision string, ago time.Duration) {
		m.Release("/debian", "bookworm", time.Now().Add(-ago), time.Now().AddDate(0, 0, 7),
			m.Publish("/debian", "restless", "1.0.0-"+revision, mirror.PackageOf(t, app...)),
			m.Publish("/debian", "restless-lib", "1.0.0-1", mirror.PackageOf(t, lib...)))
	}
	publish("1", time.Hour)
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	x := done.Site

	app = append(app, mirror.File{Name: "usr/share/restless/mended.txt", Text: "mended"})
	publish("1+deb12u1", time.Minute)
	w.Archives.Folder, w.Archives.Debian.Folder = t.TempDir(), t.TempDir()
	e, err := w.Examiner.Check(ctx, x)
	require.NoError(t, err)
	assert.Contains(t, saidOf(e, "files"), "not compared")
	assert.Contains(t, saidOf(e, "updates"), "1.0.0-1+deb12u1 is there; the site installs it by itself once it is 3 days")
	_, err = repair.Repair(ctx, w.Desk, x.Address)
	require.ErrorContains(t, err, "is not in the Debian archive any more")
	assert.Contains(t, fault.Of(err).Remedy, "Update the site to a release that is there: 1.0.0-1+deb12u1")
	p, err := update.Look(ctx, w.Desk, update.Request{Site: x.Address})
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Contains(t, strings.Join(p.Warnings, "\n"), "cannot be told which files were changed by hand")
	_, err = update.Update(ctx, w.Desk, p)
	require.NoError(t, errors.Join(err, p.Close()), "%v", fault.Of(err))
	e, err = w.Examiner.Check(ctx, found(t, w, x.Address))
	require.NoError(t, err)
	assert.Contains(t, saidOf(e, "files"), "as release 1.0.0-1+deb12u1 has them")
}

// What arrives in the archive is due without anybody having looked at the site.
func TestWhatArrivesIsDue(t *testing.T) {
	t.Parallel()
	g, m := chaos.NewGround(t, servers.PHPWeb), mirror.New(t)
	w := g.WorldOf(t, "local", chaos.Packed(t))
	now := time.Now()
	w.Archives.Debian = &debian.Archive{Client: http.DefaultClient, Folder: t.TempDir(), Keyring: m.Keyring,
		Sources: []debian.Source{{URI: m.URL + "/debian/", Suites: []string{"bookworm"}, Components: []string{"main"}}},
		Now:     func() time.Time { return now }}
	app, lib := chaos.Packages(t, "1.0.0")
	publish := func(revision string, ago time.Duration) {
		m.Release("/debian", "bookworm", time.Now().Add(-ago), time.Now().AddDate(0, 0, 7),
			m.Publish("/debian", "restless", "1.0.0-"+revision, mirror.PackageOf(t, app...)),
			m.Publish("/debian", "restless-lib", "1.0.0-1", mirror.PackageOf(t, lib...)))
	}
	publish("1", time.Hour)
	r := chaos.Request("lockside.localhost/talk", "1.0.0")
	r.Answers["care.after"] = "0d"
	done, err := w.Install(r)
	require.NoError(t, err, "%v", fault.Of(err))
	publish("1+deb12u1", time.Minute)
	now = now.Add(25 * time.Hour) // an index is read once a day
	w.Now = func() time.Time { return now }
	assert.Empty(t, found(t, w, done.Site.Address).Due)
	assert.Empty(t, update.LookUp(ctx, w.Desk))
	assert.Equal(t, "1.0.0-1+deb12u1", found(t, w, done.Site.Address).Due)
}

// saidOf is what a check said.
func saidOf(e check.Examined, name string) string {
	for _, c := range e.Checks {
		if c.Name == name {
			return c.Detail
		}
	}
	return ""
}

func found(t *testing.T, w *sitetest.World, address string) ledger.Site {
	t.Helper()
	x, err := w.Book.Find(ctx, address)
	require.NoError(t, err)
	w.Book.FillIn(&x)
	return x
}

func newest(t *testing.T, w *sitetest.World, address string) string {
	t.Helper()
	x := found(t, w, address)
	return x.Newer + ", " + x.NewerLevel
}
