package work_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/check"
	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/sites"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/place"
	"tivset/internal/work/renew"
	"tivset/internal/work/repair"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// owned is a site on real servers whose owner changes it by its own pages.
type owned struct {
	*sitetest.World
	g *chaos.Ground
	x ledger.Site
}

func ownedSite(t *testing.T) *owned {
	t.Helper()
	g := chaos.NewGround(t, servers.PHPWeb)
	w := g.World(t, "local")
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	_, err = w.Examiner.Accept(ctx, done.Site, []string{"private-files"}) // which nginx shows
	require.NoError(t, err)
	return &owned{w, g, done.Site}
}

// change has the owner sign in with the stored password, or the one that is
// given, and change title, name and password.
func (o *owned) change(t *testing.T, with secret.Text, title, name, password string) {
	t.Helper()
	x, err := o.Book.Find(ctx, o.x.Address)
	require.NoError(t, err)
	o.g.Owner(t, x.URL, x.Admin.Name, with.Reveal()).Change(t, title, name, password)
}

func (o *owned) stored(t *testing.T) secret.Text {
	t.Helper()
	c, err := o.Book.Reveal(ctx, o.x.Address)
	require.NoError(t, err)
	return c.Password
}

func (o *owned) learns(t *testing.T, name, password string) {
	t.Helper()
	l := &sites.List{Book: o.Book, Hosting: o.Hosting, Examiner: o.Desk.Examiner, Maker: o.Desk.Maker, Now: time.Now}
	_, err := l.Learn(ctx, o.x.Address, name, secret.Of(password+"x"))
	require.ErrorContains(t, err, "does not let")
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	c, err := l.Learn(ctx, o.x.Address, name, secret.Of(password))
	require.NoError(t, err)
	assert.Equal(t, password, c.Password.Reveal())
}

// stale says that a job was refused because of the password, with both ways out,
// and nothing was touched.
func (o *owned) stale(t *testing.T, what string, do func() error) {
	t.Helper()
	before := demo.ButBackups(o.Snapshot())
	v := o.g.Visit(o.x.URL, time.Hour)
	err := do()
	v.Leave()
	require.Error(t, err, what)
	f := fault.Of(err)
	assert.Equal(t, fault.NeedsConfirmation, f.Kind, what)
	assert.Contains(t, f.What, "does not sign in any more", what)
	assert.Equal(t, [][]string{{"reveal", o.x.Address, "--changed"}, {"reveal", o.x.Address, "--renew"}},
		fault.Calls(f.Remedy), what)
	_, statuses := v.Closed()
	assert.Zero(t, statuses[503], "%s closed the site", what)
	gone, come := demo.Difference(before, demo.ButBackups(o.Snapshot()))
	for _, line := range append(gone, come...) {
		assert.Regexp(t, "/cache|/log/|/uploads|/log.txt", line, what) // what visitors wrote
	}
}

// An owner changes title, name and password in the app. What is listed is what
// the site says; jobs go on with it; and one that needs a password that it does
// not have says so before it touches anything.
func TestWhatAnOwnerChanges(t *testing.T) {
	o := ownedSite(t)
	first := o.stored(t)
	o.change(t, first, "Talk & “Tea”", "lockkeeper", first.Reveal())
	e, fine := sitetest.Examined(t, o.World, o.x.Address)
	assert.True(t, fine[check.FrontPage] && fine[check.SignIn] && fine["as it is"], "%v", e.Checks)
	x, err := o.Book.Find(ctx, o.x.Address)
	require.NoError(t, err)
	assert.Equal(t, "Talk & “Tea”", x.Title)
	assert.Equal(t, "lockkeeper", x.Admin.Name)
	_, err = backup.Make(ctx, o.Desk, backup.Request{Site: x.Address})
	require.NoError(t, err)

	// A password of the owner's own.
	o.change(t, first, "Talk", "lockkeeper", "paddle-gear-nine-sticks")
	e, fine = sitetest.Examined(t, o.World, o.x.Address)
	assert.False(t, fine[check.SignIn], "%v", e.Checks)
	assert.True(t, fine[check.FrontPage] && fine["as it is"], "%v", e.Checks)
	o.stale(t, "update", func() error {
		_, err := update.To(ctx, o.Desk, update.Request{Site: x.Address, Release: "2.0.0"})
		return err
	})
	for what, move := range map[string]bool{"move": true, "copy": false} {
		o.stale(t, what, func() error {
			return sitetest.CopyOf(o.World, place.Request{Site: x.Address, At: "chandlery.localhost/talk", Move: move})
		})
	}
	o.learns(t, "", "paddle-gear-nine-sticks")
	_, err = update.To(ctx, o.Desk, update.Request{Site: x.Address, Release: "2.0.0"})
	require.NoError(t, err, "%v", fault.Of(err))
	x, err = o.Book.Find(ctx, o.x.Address)
	require.NoError(t, err)
	assert.Equal(t, "Talk", x.Title)

	// Another, of which nobody tells: a new one can be made.
	o.change(t, secret.Of("paddle-gear-nine-sticks"), "Talk", "lockkeeper", "another-one-entirely")
	made, err := renew.Renew(ctx, o.Desk, x.Address)
	require.NoError(t, err, "%v", fault.Of(err))
	o.change(t, made.Password, "Talk", "lockkeeper", "a-third-one-entirely")

	// What mends a site does not insist on it, and says what is left.
	damaged := filepath.Join(o.Root, x.Folder, "lib/release.php")
	require.NoError(t, os.WriteFile(damaged, []byte("<?php const RELEASE = 'x';"), 0o644))
	repaired, err := repair.Repair(ctx, o.Desk, x.Address)
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Contains(t, repaired.Warnings[0], "does not sign in any more")
	assert.Equal(t, "bad", repaired.Site.Health)
	o.learns(t, "lockkeeper", "a-third-one-entirely")
	latest, err := backup.Make(ctx, o.Desk, backup.Request{Site: x.Address})
	require.NoError(t, err)

	// The backup holds the first password; the vault's is for what is there now.
	o.restored(t, backupOf(t, o, "1.0.0"), "Talk & “Tea”", first)
	// And one that was made when the vault had another than the app.
	o.restored(t, latest.File, "Talk", secret.Of("a-third-one-entirely"))
	o.change(t, secret.Of("a-third-one-entirely"), "Talk", "lockkeeper", "a-fourth-one-entirely")
	unknown, err := backup.Make(ctx, o.Desk, backup.Request{Site: x.Address})
	require.NoError(t, err)
	o.learns(t, "", "a-fourth-one-entirely")
	o.restored(t, unknown.File, "Talk", secret.Of("a-fourth-one-entirely"))
}

// restored restores a backup, and sees that title and password are those of its
// time.
func (o *owned) restored(t *testing.T, from, title string, password secret.Text) {
	t.Helper()
	back, err := restore.Restore(ctx, o.Desk, restore.Request{Site: o.x.Address, From: from})
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, title, back.Site.Title)
	assert.Equal(t, "good", back.Site.Health, "%v", back.Warnings)
	assert.Equal(t, password.Reveal(), o.stored(t).Reveal())
}

// backupOf finds the first backup of a release.
func backupOf(t *testing.T, o *owned, release string) string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(o.Root, ".tivset/backups/*/*.zst"))
	require.NoError(t, err)
	require.NotEmpty(t, files, release)
	name, err := filepath.Rel(o.Root, files[0])
	require.NoError(t, err)
	return name
}
