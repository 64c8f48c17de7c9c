package work_test

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work"
	"tivset/internal/work/backup"
	"tivset/internal/work/remove"
	"tivset/internal/work/renew"
)

// logsOf gives the logs of all jobs.
func logsOf(t *testing.T, w *sitetest.World) string {
	t.Helper()
	files, err := filepath.Glob(filepath.Join(w.Home.Logs(), "*.log"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	var all strings.Builder
	for _, f := range files {
		info, err := os.Stat(f)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), f)
		text, err := os.ReadFile(f)
		require.NoError(t, err)
		all.Write(text)
	}
	return all.String()
}

// A job's log tells what was asked of whom, for how long, and what came of it; and none of the secrets that
// were typed, made or kept on the way, whatever a server repeats.
func TestLogsOfJobs(t *testing.T) {
	w := sitetest.Demo(t)
	w.Desk.Patience = 0
	done, err := w.Install(sitetest.Request("towline", "lockside.localhost/help"))
	require.NoError(t, err)
	first := logsOf(t, w)
	for _, said := range []string{"job begins", "what=install", "app=towline", "files: create", "web: visit",
		"database server: create user", "database: run a statement", "took=", "step ended", "outcome=done", "→"} {
		assert.True(t, strings.Contains(first, said), said)
	}
	_, err = w.Install(sitetest.Request("willowbench", "lockside.localhost/forum")) // by its own pages, in a stage
	require.NoError(t, err)
	planted := []string{sitetest.Key, sitetest.MailPassword, done.Password.Reveal()}
	_, err = renew.Renew(ctx, w.Desk, done.Site.Address)
	require.NoError(t, err)
	_, err = backup.Make(ctx, w.Desk, backup.Request{Site: done.Site.Address})
	require.NoError(t, err)
	w.Trip.FailOn("web POST", "before drop database")
	_, err = w.Install(sitetest.Request("towline", "lockside.localhost/other"))
	failed := fault.Of(err)
	require.Equal(t, fault.Incomplete, failed.Kind)
	w.Trip.FailOn()
	names, err := w.Book.Vault.Under("sites/")
	require.NoError(t, err)
	for _, name := range names {
		text, err := w.Book.Vault.Get(name)
		require.NoError(t, err)
		planted = append(planted, text.Reveal())
	}
	_, err = w.Desk.Undo(ctx, failed.Job)
	require.NoError(t, err)
	w.Remove(remove.Request{Site: done.Site.Address, NoBackup: true, WithAdded: true})
	all := logsOf(t, w)
	assert.True(t, strings.Contains(all, "stage-…"), "who reads a log does not find a site that is not set up yet")
	assert.False(t, regexp.MustCompile(`stage-[a-z0-9]`).MatchString(all))
	require.Greater(t, len(planted), 6)
	for _, word := range planted {
		if len(word) >= 6 {
			assert.False(t, strings.Contains(all, word), word)
		}
	}
	_, text, err := w.Desk.Log(ctx, failed.Job)
	require.NoError(t, err)
	for _, said := range []string{"level=WARN", "made to fail by the test", "job ended", "exit=4", "taken in hand again",
		"step undone", "remedy="} {
		assert.True(t, strings.Contains(string(text), said), said)
	}
	_, _, err = w.Desk.Log(ctx, "20261123-080000-none")
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	_, _, err = w.Desk.Log(ctx, "../vault")
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
}

// Logs are kept for thirty days, and a job whose log cannot be written is a job like any other.
func TestLogsAreForgotten(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/one"))
	require.NoError(t, err)
	files, err := filepath.Glob(filepath.Join(w.Home.Logs(), "*.log"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	old := time.Now().AddDate(0, 0, -work.LoggedFor-1)
	require.NoError(t, os.Chtimes(files[0], old, old))
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/two"))
	require.NoError(t, err)
	assert.NoFileExists(t, files[0])
	journals, err := filepath.Glob(filepath.Join(w.Home.Journals(), "*.jsonl"))
	require.NoError(t, err)
	assert.Len(t, journals, 2)
}
