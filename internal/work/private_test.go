package work_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// What the kit says nobody may see is asked for as it is now, and not as the
// archive has it: a log that has grown since, what stands deep in a folder, the
// list of what is there.
func TestWhatNobodyMaySee(t *testing.T) {
	for server, serve := range map[string]func(servers.Stage, []servers.Site, ...string) string{
		"nginx": servers.PHPWeb, "Apache": servers.Apache,
	} {
		t.Run(server, func(t *testing.T) {
			t.Parallel()
			g := chaos.NewGround(t, serve)
			w := g.World(t, "local")
			done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))
			assert.Contains(t, strings.Join(done.Warnings, "\n"), "log/readme.txt", "the install tells it already")
			assert.Equal(t, "bad", done.Site.Health, "and a look a minute later says no other")
			x := done.Site
			log := filepath.Join(w.Root, x.Folder, "log")
			// A program there does something when it is asked for: nobody asks.
			ran := filepath.Join(w.Root, x.Folder, "uploads/ran.txt")
			require.NoError(t, os.WriteFile(filepath.Join(w.Root, x.Folder, "lib/make.php"),
				[]byte("<?php file_put_contents('../uploads/ran.txt', 'x');"), 0o644))
			private := func() (ok bool, detail string) {
				e, _ := sitetest.Examined(t, w, x.Address)
				for _, c := range e.Checks {
					if c.Name == "private files" {
						return c.OK, c.Detail
					}
				}
				t.Fatalf("not asked: %v", e.Checks)
				return
			}
			ok, detail := private()
			assert.False(t, ok)
			assert.Contains(t, detail, "log/visits.txt")
			assert.NotContains(t, detail, "config.php", "it is run")
			assert.NoFileExists(t, ran)

			// Many files, some deep: all kinds are asked for, and the rest is named.
			require.NoError(t, os.MkdirAll(filepath.Join(log, "a/b"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(log, "a/b/deep & odd.dump"), []byte("secret"), 0o644))
			for n := range 60 {
				require.NoError(t, os.WriteFile(filepath.Join(log, fmt.Sprintf("old-%d.txt", n)), []byte("x"), 0o600))
			}
			ok, detail = private()
			assert.False(t, ok)
			assert.Contains(t, detail, "log/a/b/deep & odd.dump")

			if server == "nginx" { // it passes over rules; the owner takes the folder's rights away
				require.NoError(t, os.Chmod(log, 0o700))
				require.NoError(t, os.Chown(log, 0, 0))
				ok, detail = private()
				assert.True(t, ok, detail)
				assert.Contains(t, detail, "of 63 files)", "what was not asked for is named")
				return
			}
			rules := filepath.Join(log, ".htaccess")
			require.NoError(t, os.WriteFile(rules, []byte("Require all denied\n"), 0o644))
			ok, detail = private()
			assert.True(t, ok, detail)
			require.NoError(t, os.WriteFile(rules, []byte("Options +Indexes\n"), 0o644))
			ok, detail = private()
			assert.False(t, ok)
			assert.NotContains(t, detail, "log/,", "a list is told apart from contents")
			listed := exposure(t, w, x.Address, check.Listings)
			assert.False(t, listed.OK)
			assert.Contains(t, listed.Detail, ": log/", "the list of what is there comes back")
		})
	}
}
