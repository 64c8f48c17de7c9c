//go:build unix

package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The laptop is lost, and another one goes on: sites, passwords and backups are there, and so is what was changed
// after the file was saved.
func TestALostLaptop(t *testing.T) {
	p := newProgram(t)
	run := func(home string, args ...string) string {
		t.Helper()
		out, err := p.as("tivset", []string{"TIVSET_HOME=" + home}, args...).CombinedOutput()
		require.NoError(t, err, "%v: %s", args, out)
		return string(out)
	}
	first := run(p.demo.Folder, install("willowbench", "lockside.localhost/forum")...)
	assert.Contains(t, first, "tivset recovery save FILE", "it is offered after the first install")
	assert.Contains(t, run(p.demo.Folder), "tivset recovery save FILE", "and reminded of")

	stick, words := t.TempDir(), filepath.Join(t.TempDir(), "words")
	file, page := filepath.Join(stick, "tivset-recovery"), filepath.Join(stick, "recovery.html")
	require.NoError(t, os.WriteFile(words, []byte("password1\n"), 0o600))
	out, err := p.as("tivset", nil, "recovery", "save", file, "-a", "passphrase=@"+words).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "it can be guessed in")
	assert.NoFileExists(t, file)
	require.NoError(t, os.WriteFile(words, []byte("seven lamps over the weir\n"), 0o600))
	run(p.demo.Folder, "recovery", "save", file, "-a", "passphrase=@"+words, "--page", page)
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	assert.Contains(t, string(text), "tivset recovery open FILE")
	assert.NotContains(t, string(text), "seven lamps")
	assert.NotContains(t, run(p.demo.Folder), "recovery save")

	run(p.demo.Folder, append(install("inkreach", "lockside.localhost/news"), "--accept-licence")...) // after it was saved
	run(p.demo.Folder, "backup", "forum")
	var before, after struct{ Password string }
	p.json(&before, "reveal", "lockside.localhost/forum")

	other := filepath.Join(t.TempDir(), "other")
	out, err = p.as("tivset", []string{"TIVSET_HOME=" + other}, "recovery", "open", file, "-a",
		"passphrase=@"+page).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "the passphrase is not the one of this file")
	assert.Contains(t, run(other, "recovery", "open", file, "-a", "passphrase=@"+words), "2 sites, 1 account")
	run(other, "check")
	said, err := p.as("tivset", []string{"TIVSET_HOME=" + other}, "reveal", "lockside.localhost/forum", "--json").Output()
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(said, &after))
	assert.Equal(t, before, after)
	run(other, "restore", "forum", "--yes")
	run(other, "remove", "lockside.localhost/news", "--yes")

	out, err = p.as("tivset", nil, "recovery", "open", file, "-a", "passphrase=@"+words).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "this machine has records already")
}

// On a terminal a passphrase is made, or typed twice; a wrong one is asked for again.
func TestRecoveryOnATerminal(t *testing.T) {
	p := newProgram(t)
	out, err := p.as("tivset", nil, install("inkreach", "lockside.localhost/news")...).CombinedOutput()
	require.NoError(t, err, "%s", out)
	file := filepath.Join(t.TempDir(), "kept")
	shown, code := onTerminal(t, p.as("tivset", nil, "recovery", "save", file), on("A passphrase", "lamp\r"),
		see("it can be guessed"), on("A passphrase", "seven lamps over the weir\r"), on("The same once more", "six\r"),
		see("not the same"), on("A passphrase", "seven lamps over the weir\r"),
		on("The same once more", "seven lamps over the weir\r"), see("Saved to "))
	require.Equal(t, 0, code, shown)
	assert.NotContains(t, shown, "seven lamps")
	other := "TIVSET_HOME=" + filepath.Join(t.TempDir(), "other")
	shown, code = onTerminal(t, p.as("tivset", []string{other}, "recovery", "open", file),
		on("The passphrase:", "wrong\r"), see("is not the one"),
		on("The passphrase:", "seven lamps over the weir\r"), see("1 site, 1 account"))
	require.Equal(t, 0, code, shown)
	shown, code = onTerminal(t, p.as("tivset", nil, "recovery", "save", file), on("A passphrase", "\r"),
		on("Write it down, then press Enter", "\r"), see("Saved to "))
	require.Equal(t, 0, code, shown)
}
