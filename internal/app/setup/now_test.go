package setup_test

import (
	"context"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/demo"
	"tivset/internal/hosting/files"
)

// What a site says of itself is read from a page, a constant, a pattern and, by
// itself, from a file that was written after a template.
func TestNow(t *testing.T) {
	ctx := context.Background()
	r, _ := runner(t)
	dir := t.TempDir()
	require.NoError(t, demo.WriteCatalogue(dir))
	k, err := kit.Read(os.DirFS(dir+"/lampshelf"), "lampshelf")
	require.NoError(t, err)
	for name, text := range map[string]string{
		"config/lampshelf.yaml": "gallery:\n  title: 'Lamps & “light”'\n  subtitle: \"by \\\"night\\\"\"\n  language: nl\n" +
			"keeper:\n  name: lampwright\n  email: \"lamp@lockside.localhost\"\n",
		"face.php":  "<?php // define('NAME', 'no');\ndefine( 'NAME' , 'It\\'s mine' );\ndefine('MADE', 'a' . 'b');",
		"notes.txt": "one\nlanguage = fr\n",
	} {
		_, err := files.MkdirAll(ctx, r.Files, "config", 0o755)
		require.NoError(t, err)
		require.NoError(t, files.Write(ctx, r.Files, name, []byte(text), 0o644))
	}
	now, err := r.Now(ctx, k)
	require.NoError(t, err)
	assert.Equal(t, fill.Values{"title": "Lamps & “light”", "subtitle": `by "night"`, "language": "nl",
		"admin.name": "lampwright", "admin.email": "lamp@lockside.localhost"}, now)

	k.Now = map[string]kit.Now{"title": {Get: "/", Pattern: "<title>(.*?)</title>"},
		"subtitle":   {File: "face.php", Constant: "NAME"},
		"language":   {File: "notes.txt", Pattern: "(?m)^language = (.*)$"},
		"admin.name": {File: "face.php", Constant: "MADE"}, "admin.email": {Get: "broken", Pattern: "(.*)"}}
	now, err = r.Now(ctx, k)
	assert.Equal(t, fill.Values{"title": "Lock & Key", "subtitle": "It's mine", "language": "fr"}, now)
	assert.ErrorContains(t, err, "read the admin's name: the constant MADE is put together")
	assert.ErrorContains(t, err, "read the admin's e-mail address: the page")
}
