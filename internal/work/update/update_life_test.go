package update_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/update"
)

// What came with an extra comes with the new release.
func TestExtensionsComeWithTheRelease(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Older("towline", "lockside.localhost/help", "1.9.5"))
	require.NoError(t, err)
	file := filepath.Join(w.Root, done.Site.Folder, "extensions/calendar/about.txt")
	require.NoError(t, os.WriteFile(file, []byte("an older one"), 0o644))
	up, err := update.Look(ctx, w.Desk, update.Request{Site: done.Site.Address, Release: "2.0.1"})
	require.NoError(t, err)
	assert.Contains(t, up.Lost, "extensions/calendar/about.txt", "what was changed by hand is named")
	_, err = update.Update(ctx, w.Desk, up)
	require.NoError(t, err)
	require.NoError(t, up.Close())
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.NotEqual(t, "an older one", string(text))
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
