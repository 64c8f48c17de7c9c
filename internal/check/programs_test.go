package check_test

import (
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
	"tivset/internal/work/repair"
)

// A program that are not part of the app for is found wherever it was planted: at the top,
// among the app's, where visitors upload, under any name. What is no program, what
// the app makes itself and what the owner vouched for are not.
func TestPlantedPrograms(t *testing.T) {
	w := chaos.NewGround(t, servers.PHPWeb).World(t, "local")
	done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
	require.NoError(t, err, "%v", fault.Of(err))
	folder := filepath.Join(w.Root, done.Site.Folder)
	put := func(name, text string) {
		t.Helper()
		require.NoError(t, os.MkdirAll(filepath.Join(folder, filepath.Dir(name)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	added := func() (programs []string, detail string) {
		t.Helper()
		e, _ := sitetest.Examined(t, w, done.Site.Address)
		for _, c := range e.Checks {
			if c.Name == "added files" {
				assert.Equal(t, c.OK, len(e.Programs) == 0)
				return e.Programs, c.Detail
			}
		}
		t.Fatal("not judged")
		return nil, ""
	}
	require.NoError(t, os.Remove(filepath.Join(folder, "plugins/readme.txt"))) // as owners may
	put("uploads/a photo.jpg", "\xff\xd8 a picture")
	put("uploads/.htaccess", "Require all denied\n")
	put("cache/page.php", "<?php // made by the app")
	put("notes.txt", "the owner's")
	programs, detail := added()
	assert.Empty(t, programs, detail)
	assert.Contains(t, detail, "notes.txt")

	planted := map[string]string{
		"x.php": "<?php eval($_POST['x']);", "lib/more.PHP": "<?php", "uploads/photo.php": "<?php",
		"uploads/2026/pic.jpg": "\xff\xd8 <?php system($_GET['c']); ?>",
		"log/.htaccess":        "AddType application/x-httpd-php .txt\n",
		"uploads/.user.ini":    "auto_prepend_file = pic.jpg\n", "plugins/tide/tide.php": "<?php",
		"new/deep/run.phtml": "<?=",
	}
	for name, text := range planted {
		put(name, text)
	}
	programs, detail = added()
	assert.Len(t, programs, len(planted), "%v", programs)
	for name := range planted {
		assert.Contains(t, programs, name)
	}
	assert.Contains(t, detail, "and 3 more")
	assert.Equal(t, []string{"check", done.Site.Address, "--mine", programs[0]}, fault.Calls(detail)[0])

	for name := range planted {
		if !strings.HasPrefix(name, "plugins/") {
			require.NoError(t, os.Remove(filepath.Join(folder, name)))
		}
	}
	vouch := func(name string) error {
		x, err := w.Book.Find(ctx, done.Site.Address)
		require.NoError(t, err)
		_, err = w.Examiner.Vouch(ctx, x, []string{name})
		return err
	}
	require.ErrorContains(t, vouch("plugins/none"), "no such file")
	require.ErrorContains(t, vouch("../talk"), "no such file")
	require.NoError(t, vouch("plugins/tide/"))
	programs, _ = added()
	assert.Empty(t, programs)
	put("plugins/tide/tide.php", "<?php // changed")
	programs, _ = added()
	assert.Equal(t, []string{"plugins/tide/tide.php"}, programs, "what was changed is judged anew")
	put("plugins/tide/tide.php", "<?php")
	put("plugins/tide/back.php", "<?php")
	programs, _ = added()
	assert.Len(t, programs, 2, "so is a folder to which one was added")
	require.NoError(t, vouch("plugins"))
	programs, _ = added()
	assert.Empty(t, programs)

	// A file of the release that the owner made another of.
	put("lib/release.php", "<?php const RELEASE = 'mine';")
	_, fine := sitetest.Examined(t, w, done.Site.Address)
	assert.False(t, fine["files"])
	require.NoError(t, vouch("lib/release.php"))
	_, fine = sitetest.Examined(t, w, done.Site.Address)
	assert.True(t, fine["files"])
	assert.True(t, fine[check.FrontPage])
	_, err = repair.Repair(ctx, w.Desk, done.Site.Address)
	require.ErrorIs(t, err, repair.ErrNothing, "it is the owner's")
	put("lib/release.php", "<?php const RELEASE = 'a stranger\\'s';")
	_, fine = sitetest.Examined(t, w, done.Site.Address)
	assert.False(t, fine["files"])
	repaired, err := repair.Repair(ctx, w.Desk, done.Site.Address)
	require.NoError(t, err, "what was changed since is not")
	assert.Equal(t, []string{"lib/release.php"}, repaired.Files)
}
