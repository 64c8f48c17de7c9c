package restore_test

import (
	"context"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	format "tivset/internal/records/backup"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/backup"
	"tivset/internal/work/restore"
)

// rewritten writes a backup again as somebody would who can write where it lies:
// with another record, and other names of files; with checksums that are right.
func rewritten(t *testing.T, from, to string, edit func(*ledger.Site), name func(string) string,
	key func([]byte) ([]byte, error)) {
	t.Helper()
	b, err := format.Open(context.Background(), func() (io.ReadCloser, error) { return os.Open(from) }, nil)
	require.NoError(t, err)
	var x ledger.Site
	require.NoError(t, json.Unmarshal(b.Site, &x))
	edit(&x)
	h := b.Header
	h.Site, err = json.Marshal(x)
	require.NoError(t, err)
	out, err := os.Create(to)
	require.NoError(t, err)
	w, err := format.NewWriter(out, h, nil)
	require.NoError(t, err)
	w.Key = key
	data := w.Data()
	_, err = io.Copy(data, b.Script(context.Background()))
	require.NoError(t, err)
	require.NoError(t, data.Close())
	require.NoError(t, b.Part(format.Files)(context.Background(), func(e archive.Entry, content io.Reader) error {
		if e.Dir {
			return w.Folder(format.Files, e.Name, e.Mode)
		}
		return w.File(format.Files, name(e.Name), e.Mode, e.Size, content)
	}))
	_, err = w.Close()
	require.NoError(t, err)
	require.NoError(t, out.Close())
}

func same(name string) string { return name }

// insteadOf gives one file another name.
func insteadOf(was, is string) func(string) string {
	return func(name string) string {
		if name == was {
			return is
		}
		return name
	}
}

// What a backup says is looked at as a stranger's word: nothing is written
// elsewhere, whatever its names and its record say, and nothing panics.
func TestHostileBackups(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	made, err := backup.Make(ctx, w.Desk, backup.Request{Site: done.Site.Address, Into: t.TempDir()})
	require.NoError(t, err)
	ours := w.Book.Vault.Key // even with a right mark a record is looked at
	before := w.Snapshot()
	refused := func(file, what string, kind fault.Kind, at ...string) {
		t.Helper()
		for _, at := range append(at, done.Site.Address, "chandlery.localhost/elsewhere") {
			_, err := restore.Restore(ctx, w.Desk, restore.Request{Site: at, From: file})
			require.Error(t, err, "%s at %s", what, at)
			assert.Equal(t, kind, fault.Of(err).Kind, "%s at %s: %v", what, at, err)
			sitetest.Same(t, before, w.Snapshot(), what)
		}
	}
	for what, edit := range map[string]func(*ledger.Site){
		"no app":             func(x *ledger.Site) { x.App = "" },
		"an app above":       func(x *ledger.Site) { x.App = "../x" },
		"no release":         func(x *ledger.Site) { x.Release = "" },
		"an address above":   func(x *ledger.Site) { x.Address = "lockside.localhost/../x" },
		"no url":             func(x *ledger.Site) { x.URL = "" },
		"a url elsewhere":    func(x *ledger.Site) { x.URL = "http://chandlery.localhost/" },
		"a folder above":     func(x *ledger.Site) { x.Folder = "../other" },
		"an absolute folder": func(x *ledger.Site) { x.Folder = "/etc" },
		"data above":         func(x *ledger.Site) { x.DataFolder = "data/../../x" },
		"all data":           func(x *ledger.Site) { x.DataFolder = "." },
		"an entry above":     func(x *ledger.Site) { x.Entries = append(x.Entries, "../../chandlery") },
		"an entry below":     func(x *ledger.Site) { x.Entries = append(x.Entries, "a/b") },
		"an empty entry":     func(x *ledger.Site) { x.Entries = append(x.Entries, "") },
		"made above":         func(x *ledger.Site) { x.FoldersMade = []string{"web/../.."} },
		"aside above":        func(x *ledger.Site) { x.SetAside = []string{"../x"} },
		"no database":        func(x *ledger.Site) { x.Database = nil },
		"a database's name":  func(x *ledger.Site) { x.Database.Name = "a`; DROP" },
		"no server":          func(x *ledger.Site) { x.Database.Server = "" },
		"a table prefix":     func(x *ledger.Site) { x.Database.Tables = "x'; --" },
		"a job":              func(x *ledger.Site) { x.LastJob = "../../job" },
		"no title":           func(x *ledger.Site) { x.Title = "" },
	} {
		file := filepath.Join(t.TempDir(), "b.tar.zst")
		rewritten(t, made.File, file, edit, same, ours)
		refused(file, what, fault.Usage)
	}
	for _, name := range []string{"../../../web/chandlery/index.html", "a/../../b"} {
		file := filepath.Join(t.TempDir(), "b.tar.zst")
		rewritten(t, made.File, file, func(*ledger.Site) {}, insteadOf("index.page", name), ours)
		refused(file, name, fault.Usage)
		rewritten(t, made.File, file, func(*ledger.Site) {}, insteadOf("index.page", name), nil)
		for _, at := range []string{done.Site.Address, "chandlery.localhost/elsewhere"} {
			_, err := restore.Restore(ctx, w.Desk, restore.Request{Site: at, From: file, NotOurs: true, NoBackup: true})
			require.Error(t, err, "taken though it is not ours: %s", name)
			sitetest.Same(t, before, w.Snapshot(), "%s at %s", name, at)
		}
	}

	// One that the vault did not make is taken only when the owner says so.
	file := filepath.Join(t.TempDir(), "b.tar.zst")
	for what, key := range map[string]func([]byte) ([]byte, error){"no mark": nil,
		"another's mark": func([]byte) ([]byte, error) { return []byte(strings.Repeat("x", 32)), nil }} {
		rewritten(t, made.File, file, func(x *ledger.Site) { x.Admin.Email = "another@lockside.localhost" }, same, key)
		refused(file, what, fault.NeedsConfirmation)
	}
	back, err := restore.Restore(ctx, w.Desk, restore.Request{Site: done.Site.Address, From: file, NotOurs: true})
	require.NoError(t, err)
	assert.Equal(t, "wharfinger@lockside.localhost", back.Site.Admin.Email, "as the site says, not the record")
}

// What is refused in the middle leaves nothing on a server either, of which no folder is entered by its descriptor.
func TestHostileBackupsOverALine(t *testing.T) {
	for reach, over := range map[string]func(*testing.T, *sitetest.World){
		"SFTP": func(t *testing.T, w *sitetest.World) {
			sitetest.OverSFTP(t, w)
			_, err := w.Reach.Hosts.Trust(w.Demo.Standin.SSH.Address(), w.Demo.Standin.SSH.Fingerprint())
			require.NoError(t, err)
		},
		"FTP": func(t *testing.T, w *sitetest.World) { sitetest.OverFTP(t, w, account.FTP) },
	} {
		t.Run(reach, func(t *testing.T) {
			w := sitetest.Demo(t)
			over(t, w)
			done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			require.NoError(t, err, "%v", fault.Of(err))
			made, err := backup.Make(ctx, w.Desk, backup.Request{Site: done.Site.Address, Into: t.TempDir()})
			require.NoError(t, err)
			before := w.Snapshot()
			for _, name := range []string{"../../../web/chandlery/index.html", "a/../../b", "/etc/cron.d/x"} {
				file := filepath.Join(t.TempDir(), "b.tar.zst")
				rewritten(t, made.File, file, func(*ledger.Site) {}, insteadOf("index.page", name), nil)
				for _, at := range []string{done.Site.Address, "chandlery.localhost/elsewhere"} {
					_, err := restore.Restore(ctx, w.Desk, restore.Request{Site: at, From: file, NotOurs: true, NoBackup: true})
					require.Error(t, err, "taken though it is not ours: %s", name)
					sitetest.Same(t, before, w.Snapshot(), "%s at %s", name, at)
				}
			}
		})
	}
}

// An old backup that somebody gave a new name is not taken for the newest.
func TestTheNewestByItsNameAlone(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	made, err := backup.Make(ctx, w.Desk, backup.Request{Site: done.Site.Address})
	require.NoError(t, err)
	full := filepath.Join(w.Root, made.File)
	require.NoError(t, os.Rename(full, filepath.Join(filepath.Dir(full), "20991231-235959.tar.zst")))
	before := w.Snapshot()
	_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: done.Site.Address})
	require.ErrorContains(t, err, "not of the time that its name says")
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
	sitetest.Same(t, before, w.Snapshot())
	_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: done.Site.Address, From: "20991231-235959.tar.zst"})
	require.NoError(t, err, "by its name")
}
