package work_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/step"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// Some files of a backup come back while people go on writing: nothing else of the site is touched, and the site is
// never closed.
func TestSomeFilesComeBack(t *testing.T) {
	servers.Slow(t)
	g := chaos.NewGround(t, servers.PHPWeb)
	w := g.World(t, "local")
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	at, folder := done.Site.Address, filepath.Join(w.Root, done.Site.Folder)
	put := func(name, text string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(folder, name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	there := func(name string) string {
		text, _ := os.ReadFile(filepath.Join(folder, name))
		return string(text)
	}
	put("uploads/albums/gate.jpg", "the gate")
	put("uploads/albums/lock.jpg", "the lock")
	put("uploads/boat.jpg", "the boat")
	_, err = backup.Make(ctx, w.Desk, backup.Request{Site: at})
	require.NoError(t, err)
	put("uploads/boat.jpg", "spoilt")
	require.NoError(t, os.RemoveAll(filepath.Join(folder, "uploads/albums")))
	put("uploads/new.jpg", "new")

	_, all, err := restore.Files(ctx, w.Desk, restore.Request{Site: at})
	require.NoError(t, err)
	assert.Contains(t, all, restore.File{Name: "uploads/albums/gate.jpg", Bytes: 8})
	before := w.Snapshot()
	_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: at, Files: []string{"uploads/boat.jpg", "uploads/no.jpg"}})
	require.ErrorContains(t, err, "no such file")
	sitetest.Same(t, before, w.Snapshot())

	v := g.Visit(done.Site.URL, 50*time.Millisecond)
	back, err := restore.Restore(ctx, w.Desk, restore.Request{Site: at, Files: []string{"uploads/boat.jpg",
		"./uploads/albums/"}})
	v.Leave()
	require.NoError(t, err, "%v", fault.Of(err))
	assert.ElementsMatch(t, []string{"uploads/boat.jpg", "uploads/albums/gate.jpg", "uploads/albums/lock.jpg"}, back.Files)
	assert.Equal(t, []string{"the boat", "the gate", "the lock", "new"}, []string{there("uploads/boat.jpg"),
		there("uploads/albums/gate.jpg"), there("uploads/albums/lock.jpg"), there("uploads/new.jpg")})
	closed, statuses := v.Closed()
	assert.Zero(t, closed, "%v", statuses)
	x, err := w.Book.Find(ctx, at)
	require.NoError(t, err)
	now := everything(t, w, x)
	for _, text := range v.Kept() {
		assert.Contains(t, now, text)
	}

	// What was there is in the backup that was made first, which is not proposed by itself.
	_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: at, From: filepath.Base(back.Backup.File),
		Files: []string{"uploads/boat.jpg"}})
	require.NoError(t, err, "%v", fault.Of(err))
	assert.Equal(t, "spoilt", there("uploads/boat.jpg"))
}

// A backup says what it is, in its name.
func TestWhatBackupsAre(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err, "%v", fault.Of(err))
	at := done.Site.Address
	_, err = backup.Make(ctx, w.Desk, backup.Request{Site: at, Care: true})
	require.NoError(t, err)
	_, err = update.To(ctx, w.Desk, update.Request{Site: at, Release: "1.4.0"})
	require.NoError(t, err, "%v", fault.Of(err))
	all, err := backup.List(ctx, w.Desk, at, "", "")
	require.NoError(t, err)
	require.Len(t, all, 2)
	why := map[string]string{}
	for _, l := range all {
		why[l.Why] = l.To
	}
	assert.Equal(t, map[string]string{step.Regular: "", step.BeforeUpdate: "1.4.0"}, why)
	for name, want := range map[string]step.NamedBackup{
		"20261123-074500-update-2.1.0~rc1+dfsg-1.tar.zst": {Why: step.BeforeUpdate, To: "2.1.0~rc1+dfsg-1"},
		"20261123-074500-update.tar.zst.age":              {Why: step.BeforeUpdate, Encrypted: true},
		"20261123-074500.tar.zst":                         {Why: step.Asked},
	} {
		got, is := step.BackupNamed(name)
		want.MadeAt = time.Date(2026, 11, 23, 7, 45, 0, 0, time.UTC)
		assert.True(t, is, name)
		assert.Equal(t, want, got, name)
	}
	_, is := step.BackupNamed("20261123-074500-updated.tar.zst")
	assert.False(t, is)
	assert.Equal(t, "update-2.1.0-x", step.BeforeUpdateTo("2.1.0/x"))
}
