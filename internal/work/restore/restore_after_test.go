package restore_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/backup"
	"tivset/internal/work/remove"
	"tivset/internal/work/repair"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// A backup that is cut short, altered or somebody else's is refused before
// anything is touched.
func TestBackupsThatWillNotDo(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	made, err := backup.Make(ctx, w.Desk, backup.Request{Site: "journal", Into: t.TempDir()})
	require.NoError(t, err)
	whole, err := os.ReadFile(made.File)
	require.NoError(t, err)
	before := w.Snapshot()
	refused := func(name string, text []byte, words string) {
		file := filepath.Join(t.TempDir(), "x.tar.zst")
		require.NoError(t, os.WriteFile(file, text, 0o600))
		_, err := restore.Restore(ctx, w.Desk, restore.Request{Site: done.Site.Address, From: file, NoBackup: true})
		require.ErrorContains(t, err, words, name)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind, name)
		sitetest.Same(t, before, w.Snapshot(), name)
	}
	for cut := 0; cut < len(whole); cut += len(whole)/7 + 1 {
		refused("cut short", whole[:cut], "cannot be used")
	}
	for at := 10; at < len(whole); at += len(whole)/11 + 1 {
		altered := append([]byte{}, whole...)
		altered[at] ^= 0x20
		refused("altered", altered, "cannot be used")
	}
	refused("none", []byte("hello"), "cannot be used")
	_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: done.Site.Address, From: "20200101-000000.tar.zst"})
	require.ErrorContains(t, err, "no such backup")

	// Several within one second: each is kept, whatever becomes of the next.
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	w.Now = func() time.Time { return at }
	for n := range 3 {
		_, err := backup.Make(ctx, w.Desk, backup.Request{Site: "journal"})
		require.NoError(t, err)
		w.Trip.Full = true
		_, err = backup.Make(ctx, w.Desk, backup.Request{Site: "journal"})
		w.Trip.Full = false
		require.Error(t, err)
		all, err := backup.List(ctx, w.Desk, "journal", "", "")
		require.NoError(t, err)
		assert.Len(t, all, n+1)
	}
	w.Now = time.Now
	before = w.Snapshot()

	// The disk is full: the backup ends, and nothing of it is left.
	w.Trip.Full = true
	_, err = backup.Make(ctx, w.Desk, backup.Request{Site: "journal"})
	w.Trip.Full = false
	require.Error(t, err)
	sitetest.Same(t, before, w.Snapshot())
}

// Only the owner of the key opens a backup that is encrypted to it.
func TestEncryptedBackup(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("lampshelf", "lockside.localhost/pictures"))
	require.NoError(t, err)
	key, public := sitetest.AgeKey(t)
	made, err := backup.Make(ctx, w.Desk, backup.Request{Site: "pictures", To: []string{public}})
	require.NoError(t, err)
	assert.True(t, made.Encrypted)
	_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: "pictures"})
	require.ErrorContains(t, err, "encrypted")
	_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: "pictures", Identity: key})
	require.NoError(t, err)
	_, err = backup.Make(ctx, w.Desk, backup.Request{Site: "pictures", To: []string{"AGE-SECRET-KEY-1"}})
	require.ErrorContains(t, err, "cannot be encrypted")
}

// A record without the address of the admin area, as one that was edited by hand
// may be, is restored like any other.
func TestRestoreOfARecordWithoutAnAdminAddress(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	for _, short := range []string{"", "http://", done.Site.URL[:len(done.Site.URL)-1]} {
		x := done.Site
		x.AdminURL = short
		require.NoError(t, w.Book.Ledger.PutSite(ctx, x))
		_, err = backup.Make(ctx, w.Desk, backup.Request{Site: "journal"})
		require.NoError(t, err)
		back, err := restore.Restore(ctx, w.Desk, restore.Request{Site: x.Address, NoBackup: true})
		require.NoError(t, err, "%q", short)
		assert.Equal(t, x.URL, back.Site.AdminURL)
	}
}

// Without a name the newest backup is taken that is not what another restore
// found; each says why it was made, and those of removed sites are listed too.
func TestWhichBackup(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	at := done.Site.Address
	asked, err := backup.Make(ctx, w.Desk, backup.Request{Site: at})
	require.NoError(t, err)
	first, err := restore.Restore(ctx, w.Desk, restore.Request{Site: at})
	require.NoError(t, err)
	assert.Equal(t, asked.File, first.From)
	for range 2 { // again the same, and not what the last one found
		p, err := restore.Look(ctx, w.Desk, restore.Request{Site: at})
		require.NoError(t, err)
		assert.Equal(t, asked.File, p.From)
		assert.Equal(t, "asked", p.Why)
		assert.True(t, asked.MadeAt.Equal(p.MadeAt))
		_, err = restore.Carry(ctx, w.Desk, p)
		require.NoError(t, err)
		require.NoError(t, p.Close())
	}
	named, err := restore.Look(ctx, w.Desk, restore.Request{Site: at, From: filepath.Base(first.Backup.File)})
	require.NoError(t, err)
	assert.Equal(t, "restore", named.Why)
	require.NoError(t, named.Close())

	_, err = update.To(ctx, w.Desk, update.Request{Site: at})
	require.NoError(t, err)
	newer, err := restore.Look(ctx, w.Desk, restore.Request{Site: at})
	require.NoError(t, err)
	assert.Equal(t, "update", newer.Why)
	require.NoError(t, newer.Close())
	w.Remove(remove.Request{Site: at, WithAdded: true})
	all, unseen, err := backup.Every(ctx, w.Desk, "")
	require.NoError(t, err)
	require.Empty(t, unseen)
	var whys []string
	for _, l := range all {
		assert.True(t, l.Removed)
		whys = append(whys, l.Why)
	}
	assert.Equal(t, []string{"remove", "update", "restore", "restore", "restore", "asked"}, whys)
	same, err := backup.List(ctx, w.Desk, at, "", "")
	require.NoError(t, err)
	assert.Len(t, same, len(all))

	_, err = backup.Drop(ctx, w.Desk, at, "", "", []string{filepath.Base(all[0].File), "none.tar.zst"})
	require.ErrorContains(t, err, "no such backup")
	dropped, err := backup.Drop(ctx, w.Desk, at, "", "", []string{all[0].File, filepath.Base(all[1].File)})
	require.NoError(t, err)
	assert.Len(t, dropped, 2)
	left, err := backup.List(ctx, w.Desk, at, "", "")
	require.NoError(t, err)
	assert.Equal(t, all[2:], withoutRemoved(all[2:], left))
	back, err := restore.Restore(ctx, w.Desk, restore.Request{Site: at})
	require.NoError(t, err)
	assert.Equal(t, asked.File, back.From)
}

// withoutRemoved compares lists but for what one of them cannot know.
func withoutRemoved(like, list []backup.Listed) []backup.Listed {
	for i := range list {
		list[i].Removed, list[i].Address = like[i].Removed, like[i].Address
	}
	return list
}

// After a repair the backup that it made holds what was wrong: without a name it is not what is brought back.
func TestNotWhatARepairFound(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	at := done.Site.Address
	asked, err := backup.Make(ctx, w.Desk, backup.Request{Site: at})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, done.Site.Folder, "post.page"), []byte("evil"), 0o644))
	repaired, err := repair.Repair(ctx, w.Desk, at)
	require.NoError(t, err)
	p, err := restore.Look(ctx, w.Desk, restore.Request{Site: at})
	require.NoError(t, err)
	assert.Equal(t, asked.File, p.From)
	require.NoError(t, p.Close())
	named, err := restore.Look(ctx, w.Desk, restore.Request{Site: at, From: filepath.Base(repaired.Backup.File)})
	require.NoError(t, err, "by its name it is")
	require.NoError(t, named.Close())
}
