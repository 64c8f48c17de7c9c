package update_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/servers"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/update"
)

// Extensions are brought to a newer release only where the care says so.
func TestExtensionsByTheirOwnPolicy(t *testing.T) {
	servers.Slow(t)
	for policy, stays := range map[string]bool{"off": true, "on": false} {
		w := sitetest.Demo(t)
		r := sitetest.Older("towline", "lockside.localhost/help", "1.9.5")
		r.Answers["care.extensions"] = policy
		done, err := w.Install(r)
		require.NoError(t, err)
		file := filepath.Join(w.Root, done.Site.Folder, "extensions/calendar/about.txt")
		require.NoError(t, os.WriteFile(file, []byte("an older one"), 0o644))
		up, err := update.Look(ctx, w.Desk, update.Request{Site: done.Site.Address, Release: "2.0.1"})
		require.NoError(t, err)
		_, err = update.Update(ctx, w.Desk, up)
		require.NoError(t, err)
		require.NoError(t, up.Close())
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.Equal(t, stays, string(text) == "an older one", policy)
	}
}

// A migration that fails is put back, with the site as it was.
func TestUpdateIsPutBack(t *testing.T) {
	sitetest.OnBoth(t, func(t *testing.T, w *sitetest.World) {
		done, err := w.Install(sitetest.Older("towline", "lockside.localhost/help", "2.0.1"))
		require.NoError(t, err)
		before := w.Snapshot()
		up, err := update.Look(ctx, w.Desk, update.Request{Site: done.Site.Address, NoBackup: true})
		require.NoError(t, err)
		defer up.Close()
		_, err = update.Update(ctx, w.Desk, up)
		f := fault.Of(err)
		require.Equal(t, fault.Failed, f.Kind, "%v", err)
		assert.Contains(t, strings.Join(f.Details, " "), "release 2.0.1")
		sitetest.Same(t, before, w.Snapshot())
		e, _ := sitetest.Examined(t, w, done.Site.Address)
		assert.True(t, e.OK, "%v", e.Checks)
		assert.Equal(t, "2.0.1", w.Value(done.Site, "SELECT value FROM {tables}log WHERE name = 'release'"))
	})
}
