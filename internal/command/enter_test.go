package command

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting"
	"tivset/internal/testing/sitetest"
)

// The browser's words, which every user of the machine can read, hold a file's
// name and nothing that lets anybody in; what the file leads to signs in once.
func TestTheBrowsersWordsLetNobodyIn(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("willowbench", "lockside.localhost/forum"))
	require.NoError(t, err)
	dir := t.TempDir()
	script, words := filepath.Join(dir, "browser"), filepath.Join(dir, "words")
	require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\necho \"$@\" >"+words+".part\nmv "+words+".part "+words+
		"\n"), 0o755))
	folder := filepath.Dir(w.Home.Config)
	ended := make(chan said, 1)
	go func() {
		ended <- runIn(context.Background(), map[string]string{"TIVSET_HOME": folder, "BROWSER": script}, "sign-in",
			done.Site.Address)
	}()
	var said string
	require.Eventually(t, func() bool {
		text, err := os.ReadFile(words)
		said = strings.TrimSpace(string(text))
		return err == nil
	}, 20*time.Second, 20*time.Millisecond)
	file, is := strings.CutPrefix(said, "file://")
	require.True(t, is, said)
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode())
	leads, err := os.ReadFile(file)
	require.NoError(t, err)
	door := regexp.MustCompile(`http://127\.0\.0\.1:[0-9]+/[0-9a-f]+`).FindString(string(leads))
	require.NotEmpty(t, door)
	assert.NotContains(t, said, door)

	a, err := w.Home.Account("quillmere")
	require.NoError(t, err)
	client := &http.Client{Transport: sitetest.Dialing(hosting.Connections(a))}
	answer, err := client.Get(door)
	require.NoError(t, err)
	page, err := io.ReadAll(answer.Body)
	answer.Body.Close()
	require.NoError(t, err)
	creds, err := w.Book.Reveal(context.Background(), done.Site.Address)
	require.NoError(t, err)
	assert.NotContains(t, string(page), creds.Password.Reveal())
	gate := regexp.MustCompile(`action="([^"]+)"`).FindStringSubmatch(string(page))
	half := regexp.MustCompile(`name="half" value="([^"]+)"`).FindStringSubmatch(string(page))
	require.Len(t, gate, 2)
	require.Len(t, half, 2)
	answer, err = client.PostForm(gate[1], url.Values{"half": {half[1]}})
	require.NoError(t, err)
	answer.Body.Close()
	assert.Equal(t, 200, answer.StatusCode)
	assert.NotEmpty(t, answer.Cookies())
	end := <-ended
	assert.Zero(t, end.code, end.err)
	assert.Contains(t, end.err, "signed in as wharfinger")
	assert.NoFileExists(t, file)
}

// An opener that cannot open anything is heard at once; over SSH nothing is opened at all.
func TestNoBrowser(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("willowbench", "lockside.localhost/forum"))
	require.NoError(t, err)
	env := map[string]string{"TIVSET_HOME": filepath.Dir(w.Home.Config), "BROWSER": "/bin/false"}
	began := time.Now()
	said := runIn(context.Background(), env, "sign-in", done.Site.Address)
	assert.Equal(t, 1, said.code)
	assert.Contains(t, said.err, "no browser could be opened")
	assert.Contains(t, said.err, "--print")
	assert.Less(t, time.Since(began), 15*time.Second, "and not after a minute")
	delete(env, "BROWSER")
	env["SSH_CONNECTION"] = "192.0.2.7 50000 192.0.2.1 22"
	said = runIn(context.Background(), env, "sign-in", done.Site.Address)
	assert.Equal(t, 1, said.code)
	assert.Contains(t, said.err, "over SSH there is no browser here")
	assert.Contains(t, said.err, "tivset reveal "+done.Site.Address)
}
