package check_test

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/check"
	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/repair"
)

// A stranger's program that was taken away, by hand or by a repair, and is there again is told of as such: not one that
// was there all the time, and not the owner's.
func TestWhatComesBack(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err, "%v", fault.Of(err))
	at, folder := done.Site.Address, filepath.Join(w.Root, done.Site.Folder)
	put := func(name, text string) {
		t.Helper()
		require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte(text), 0o644))
	}
	said := func() string {
		t.Helper()
		e, _ := sitetest.Examined(t, w, at)
		if n := slices.IndexFunc(e.Checks, func(c check.Checked) bool { return c.Name == "come back" }); n >= 0 {
			assert.False(t, e.Checks[n].OK)
			return e.Checks[n].Detail
		}
		return ""
	}
	assert.Empty(t, said())
	put("x.php", "<?php eval($_POST['x']);")
	assert.Empty(t, said(), "it came for the first time")
	assert.Empty(t, said(), "it was there all the time")
	require.NoError(t, os.Remove(filepath.Join(folder, "x.php")))
	assert.Empty(t, said(), "it is gone")
	put("x.php", "<?php eval($_POST['y']);")
	assert.Contains(t, said(), "x.php (taken away by 20")
	again := said()
	assert.Contains(t, again, "x.php", "as long as it is there")
	assert.Equal(t, []string{"reveal", at, "--renew"}, fault.Calls(again)[0])

	x, err := w.Book.Find(ctx, at)
	require.NoError(t, err)
	_, err = w.Examiner.Vouch(ctx, x, []string{"x.php"})
	require.NoError(t, err)
	assert.Empty(t, said(), "it is the owner's")
	put("x.php", "<?php // the owner's own")
	assert.Empty(t, said(), "nobody took it away")
	require.NoError(t, os.Remove(filepath.Join(folder, "x.php")))

	// By a repair, with no look between it and the program that comes back.
	put("about.page", "a stranger's")
	_, err = repair.Repair(ctx, w.Desk, at)
	require.NoError(t, err)
	assert.Empty(t, said())
	put("about.page", "a stranger's")
	assert.Contains(t, said(), "about.page")
	assert.NotContains(t, said(), "x.php")
}

// What is remembered of a stranger's files has an end, and holds no name that a record cannot.
func TestSuspectsHaveAnEnd(t *testing.T) {
	var x ledger.Site
	now := time.Date(2026, 12, 2, 3, 0, 0, 0, time.UTC)
	for n := range 250 {
		check.Suspects(&x, []string{fmt.Sprintf("%d.php", n), "line\nbreak.php"}, now)
	}
	require.Len(t, x.Suspects, 100)
	assert.Equal(t, "249.php", x.Suspects[99].Name)
	assert.Nil(t, x.Suspects[99].GoneAt)
	assert.NotNil(t, x.Suspects[98].GoneAt)
}
