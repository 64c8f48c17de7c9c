package requests_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
	"tivset/internal/work/batch"
	"tivset/internal/work/requests"
)

// A repair puts files back; with an intruder's script still there the site is not well, and that is said.
func TestARepairSaysWhatIsStillWrong(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	folder := filepath.Join(w.Root, done.Site.Folder)
	planted := filepath.Join(folder, "x.php")
	require.NoError(t, os.WriteFile(planted, []byte("<?php system($_GET['x']);"), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "about.page"), []byte("hacked"), 0o644))
	ask := func() batch.Ended {
		t.Helper()
		ended, err := batch.One(context.Background(), w.Desk, &requests.Repair{Site: done.Site.Address})
		require.NoError(t, err)
		return ended
	}
	repaired := ask()
	assert.Equal(t, "repaired", repaired.Outcome())
	assert.False(t, repaired.OK())
	require.Len(t, repaired.(*requests.Repaired).Still, 1)
	assert.Contains(t, repaired.(*requests.Repaired).Still[0].Detail, "x.php")
	again := ask()
	assert.Equal(t, "as it was", again.Outcome())
	assert.False(t, again.OK(), "nothing is to be repaired, and the script is there")
	require.NoError(t, os.Remove(planted))
	assert.True(t, ask().OK())
}
