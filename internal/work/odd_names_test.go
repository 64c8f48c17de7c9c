package work_test

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// Names of files that are no text, or that a terminal or another system would trip over, in the site's folder and among
// what is uploaded, and a planted script beside them: check finds the script, and backup, update, restore, move and
// removal do what they do with all of them, on every reach on which they can be said.
func TestOddNames(t *testing.T) {
	servers.Slow(t)
	for _, reach := range []string{"local", "SFTP", "FTP"} {
		t.Run(reach, func(t *testing.T) {
			w := chaos.NewGround(t, servers.PHPWeb).World(t, reach)
			done, err := w.Install(chaos.Request("lockside.localhost/odd-"+strings.ToLower(reach), "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))
			odd := map[string]string{"caf\xe9.jpg": "1", "back\\slash.jpg": "2", "tab\there.jpg": "3", "\xff\xfe": "4",
				"bell\x07.jpg": "5", "é日.jpg": "6", strings.Repeat("n", 255): "7", "-rf": "8", "a\xc3": "9"}
			if reach != "FTP" { // a line break cannot be said to an FTP server
				odd["line\nbreak.jpg"] = "0"
			}
			put := func(folder string) {
				for name, text := range odd {
					full := filepath.Join(w.Root, folder, "uploads", name)
					require.NoError(t, os.WriteFile(full, []byte(text), 0o644), "%q", name)
				}
			}
			there := func(folder string) {
				t.Helper()
				for name, text := range odd {
					got, err := os.ReadFile(filepath.Join(w.Root, folder, "uploads", name))
					assert.NoError(t, err, "%q", name)
					assert.Equal(t, text, string(got), "%q", name)
				}
			}
			put(done.Site.Folder)
			script := filepath.Join(w.Root, done.Site.Folder, "uploads", "x\xe9.php")
			require.NoError(t, os.WriteFile(script, []byte("<?php"), 0o644))
			e, _ := sitetest.Examined(t, w, done.Site.Address)
			assert.Len(t, e.Programs, 1, "the script is found: %q", e.Programs)
			require.NoError(t, os.Remove(script))
			made, err := backup.Make(ctx, w.Desk, backup.Request{Site: done.Site.Address, Into: t.TempDir()})
			require.NoError(t, err, "%v", fault.Of(err))
			_, err = update.To(ctx, w.Desk, update.Request{Site: done.Site.Address, Release: "2.0.0"})
			require.NoError(t, err, "%v", fault.Of(err))
			there(done.Site.Folder)
			for name := range odd {
				require.NoError(t, os.Remove(filepath.Join(w.Root, done.Site.Folder, "uploads", name)))
			}
			_, err = restore.Restore(ctx, w.Desk, restore.Request{Site: done.Site.Address, From: made.File})
			require.NoError(t, err, "%v", fault.Of(err))
			there(done.Site.Folder)
			at := "lockside.localhost/moved-" + strings.ToLower(reach)
			require.NoError(t, sitetest.CopyOf(w, place.Request{Site: done.Site.Address, At: at, Move: true}))
			moved, err := w.Book.Find(ctx, at)
			require.NoError(t, err)
			there(moved.Folder)
			p, err := remove.Look(ctx, w.Desk, remove.Request{Site: moved.Address, WithAdded: true})
			require.NoError(t, err, "%v", fault.Of(err))
			_, err = remove.Remove(ctx, w.Desk, p)
			require.NoError(t, errors.Join(err, p.Close()), "%v", fault.Of(err))
			_, err = os.Stat(filepath.Join(w.Root, moved.Folder))
			assert.ErrorIs(t, err, os.ErrNotExist)
		})
	}
}
