package release_test

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/release"
	"tivset/internal/demo"
)

// What a kit names is looked for in the archive of each release, with the line.
func TestExamine(t *testing.T) {
	for name, c := range map[string]struct{ from, to, says string }{
		"as it is":                 {"", "", ""},
		"denied, and not there":    {"deny: [config, parts]", "deny: [config, pairts]", "no pairts"},
		"removed, and not there":   {"place:", "place:\n  remove: [docs]", "no docs"},
		"a script of no archive":   {"setup:", "setup:\n  - sql: {file: schema/none.sql}", "no schema/none.sql"},
		"set-up that is not there": {"- remove: [install, schema]", "- remove: [install, scheme]", "no scheme"},
		"no admin folder":          {"place:", "place:\n  admin-folder: bridge", "no bridge"},
		"an extra's part": {"place:", "extras:\n  - {id: sample, default: no, parts: {yes: [samples]}}\nplace:",
			"no samples"},
		"marks in no file":         {"file: lib/release.txt", "file: lib/version.txt", "no lib/version.txt"},
		"marks that fit nothing":   {`^([0-9.]+)\\s*$`, `release ([0-9.]+)`, "nothing in lib/release.txt fits"},
		"marks of another release": {`^([0-9.]+)\\s*$`, `^([0-9]+)`, "by its marks it is 2"},
		"a timer's program": {"admin: admin/", "admin: admin/\ntimers: [{every: 1h, command: [php, cron.php], what: tidies}]",
			"no cron.php"},
		"a step's program": {"renew:", "renew:\n  - command: [php, cli/renew.php]", "no cli/renew.php"},
		"another top":      {"top: willowbench-2.4.1", "top: morings", "nothing is in it below"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			require.NoError(t, demo.WriteCatalogue(dir))
			file := filepath.Join(dir, "willowbench/kit.yaml")
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			require.Contains(t, string(text), c.from)
			require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), c.from, c.to, 1)), 0o644))
			k, err := catalogue.New(catalogue.Folder("tests", dir)).Find("willowbench")
			require.NoError(t, err)
			a := &release.Archives{Folder: t.TempDir(), Client: http.DefaultClient}
			found, err := a.Examine(context.Background(), k, k.Newest())
			require.NoError(t, err)
			if c.says == "" {
				assert.Empty(t, found)
				return
			}
			require.NotEmpty(t, found)
			assert.Contains(t, found[0].What, c.says)
			assert.Regexp(t, `^kit\.yaml:\d+$`, found[0].ID)
			assert.NotEmpty(t, found[0].Remedy)
		})
	}
}

// A table that no script of the set-up makes is named with its line, where scripts alone
// make tables.
func TestExamineTables(t *testing.T) {
	for name, c := range map[string]struct{ from, to, says string }{
		"as it is":   {"", "", ""},
		"a query":    {"FROM {tables}facts", "FROM {tables}settings", "makes a table settings"},
		"an address": {"{table: entries, column: body}", "{table: post, column: body}", "makes a table post"},
		"a step":     {"UPDATE {tables}writers SET hash", "UPDATE {tables}user SET hash", "makes a table user"},
		"a made one": {"setup:", "setup:\n  - run-sql: CREATE TABLE {tables}more (id INT)\n" +
			"  - run-sql: DELETE FROM {tables}x", ""},
		"any table there": {"{table: entries, column: body}", "{table: \"*\", column: body}", ""},
	} {
		dir := t.TempDir()
		require.NoError(t, demo.WriteCatalogue(dir))
		file := filepath.Join(dir, "inkreach/kit.yaml")
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		require.Contains(t, string(text), c.from, name)
		require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), c.from, c.to, 1)), 0o644))
		k, err := catalogue.New(catalogue.Folder("tests", dir)).Find("inkreach")
		require.NoError(t, err, name)
		a := &release.Archives{Folder: t.TempDir(), Client: http.DefaultClient}
		found, err := a.Examine(context.Background(), k, k.Newest())
		require.NoError(t, err)
		if c.says == "" {
			assert.Empty(t, found, name)
			continue
		}
		require.Len(t, found, 1, name)
		assert.Contains(t, found[0].What, c.says, name)
	}
}
