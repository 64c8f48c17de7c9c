package sqlite_test

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/sqlite"
	"tivset/internal/hosting/files/local"
)

// made makes a database in an account with statements of somebody who may do everything with it.
func made(t *testing.T, statements ...string) (open func(name string) *sqlite.Session) {
	t.Helper()
	account := t.TempDir()
	at := func(name string) string { return filepath.Join(account, "data", name, name+".sqlite") }
	require.NoError(t, os.MkdirAll(filepath.Dir(at("one")), 0o755))
	db, err := sql.Open("sqlite", at("one"))
	require.NoError(t, err)
	db.SetMaxOpenConns(1)
	for _, s := range statements {
		_, err := db.Exec(s)
		require.NoError(t, err, s)
	}
	require.NoError(t, db.Close())
	return func(name string) *sqlite.Session {
		f, err := local.Open(account)
		require.NoError(t, err)
		if _, err := os.Stat(at(name)); err != nil {
			require.NoError(t, sqlite.Connect(f, "data").CreateDatabase(context.Background(), name))
		}
		s, err := sqlite.Open(context.Background(), f, database.File("data", name))
		require.NoError(t, err)
		return s
	}
}

// Whoever can write into a site's database writes what he likes into its schema and its rows. None of it becomes a
// statement of a dump: nothing is written beside the database, wherever the dump is loaded.
func TestDumpsOfStrangers(t *testing.T) {
	folder := t.TempDir()
	target := filepath.Join(folder, "authorized_keys")
	attach := "ATTACH DATABASE '" + target + "' AS k; CREATE TABLE k.x (a); INSERT INTO k.x VALUES (1);"
	spoilt := func(definition string) []string {
		return []string{"CREATE TABLE t (a TEXT)", "PRAGMA writable_schema = ON",
			"UPDATE sqlite_master SET sql = '" + strings.ReplaceAll(definition, "'", "''") + "' WHERE name = 't'",
			"PRAGMA writable_schema = OFF"}
	}
	for name, statements := range map[string][]string{
		"a comment that a row closes": append(spoilt("CREATE TABLE t (a TEXT) /* "),
			"INSERT INTO t VALUES ('*/; "+strings.ReplaceAll(attach, "'", "''")+" -- ')"),
		"a definition of several": spoilt("CREATE TABLE t (a TEXT); " + attach),
		"a counter that is text": {"CREATE TABLE t (a INTEGER PRIMARY KEY AUTOINCREMENT)", "INSERT INTO t VALUES (1)",
			"UPDATE sqlite_sequence SET seq = '1); " + strings.ReplaceAll(attach, "'", "''") + " --'"},
		"a name": {`CREATE TABLE "t"" (a); ` + attach + ` --" (a TEXT)`},
		"a view": {"CREATE TABLE t (a)", "CREATE VIEW v AS SELECT 1", "PRAGMA writable_schema = ON",
			"UPDATE sqlite_master SET sql = 'CREATE VIEW v AS SELECT 1; " + strings.ReplaceAll(attach, "'", "''") +
				"' WHERE name = 'v'", "PRAGMA writable_schema = OFF"},
	} {
		t.Run(name, func(t *testing.T) {
			open := made(t, statements...)
			from := open("one")
			var dump bytes.Buffer
			err := from.Dump(context.Background(), &dump, nil)
			_ = from.Close()
			if err != nil {
				assert.ErrorContains(t, err, "is not dumped", "said with its name")
				assert.Equal(t, fault.Failed, fault.Of(err).Kind)
			}
			into := open("two")
			_, loaded := into.Run(context.Background(), &dump, database.ScriptOptions{})
			tables, listed := into.Tables(context.Background())
			require.NoError(t, errors.Join(listed, into.Close()))
			if err == nil {
				assert.NoError(t, loaded, "what is dumped can be loaded")
				assert.Len(t, tables, 1)
			}
			assert.NoFileExists(t, target)
			_ = os.Remove(target)
		})
	}
}

// A script that is loaded works in its database alone, whoever wrote it.
func TestScriptsStayInTheirDatabase(t *testing.T) {
	target := filepath.Join(t.TempDir(), "elsewhere")
	for _, script := range []string{
		"ATTACH DATABASE '" + target + "' AS k; CREATE TABLE k.x (a);",
		"CREATE TABLE a (b); /* */ ATTACH '" + target + "' AS k;",
		"CREATE TABLE a (b); VACUUM INTO '" + target + "';", "VACUUM main INTO '" + target + "';",
		"SELECT load_extension('" + target + "');", "PRAGMA temp_store_directory = '" + target + "';",
		"PRAGMA writable_schema = ON;", "PRAGMA trusted_schema = ON;", "DETACH main;",
		"SELECT fts3_tokenizer('simple');", "CREATE VIRTUAL TABLE x USING dbstat;",
	} {
		s := made(t)("one")
		_, err := s.Run(context.Background(), strings.NewReader(script), database.ScriptOptions{})
		assert.Error(t, err, script)
		assert.NoFileExists(t, target, script)
		assert.Error(t, s.Exec(context.Background(), "ATTACH DATABASE '"+target+"' AS k", nil))
		_ = s.Close()
		_ = os.Remove(target)
	}
}

// What apps do have goes over: words that are found, counters, quotation marks, comments in definitions, numbers.
func TestDumpsOfApps(t *testing.T) {
	open := made(t, "CREATE TABLE notes (id INTEGER PRIMARY KEY AUTOINCREMENT, -- its number\n text TEXT /* what */)",
		"INSERT INTO notes (text) VALUES ('it''s; -- so'), ('/* two')", "DELETE FROM notes WHERE id = 2",
		"CREATE VIRTUAL TABLE found USING fts5(text)", "INSERT INTO found VALUES ('sluice gate')",
		"CREATE INDEX by_text ON notes (text)", "CREATE VIEW all_notes AS SELECT * FROM notes",
		"CREATE TRIGGER kept AFTER INSERT ON notes BEGIN INSERT INTO found VALUES (new.text); END",
		`CREATE TABLE "odd ""name"";" (a)`, "PRAGMA user_version = 7")
	from := open("one")
	var dump bytes.Buffer
	require.NoError(t, from.Dump(context.Background(), &dump, nil))
	require.NoError(t, from.Close())
	into := open("two")
	_, err := into.Run(context.Background(), &dump, database.ScriptOptions{})
	require.NoError(t, err)
	for query, want := range map[string]string{
		"SELECT text FROM all_notes":                              "it's; -- so",
		"SELECT text FROM found WHERE found MATCH 'sluice'":       "sluice gate",
		"SELECT seq FROM sqlite_sequence":                         "2",
		"SELECT count(*) FROM pragma_index_list('notes')":         "1",
		"SELECT count(*) FROM \"odd \"\"name\"\";\"":              "0",
		"SELECT user_version FROM pragma_user_version":            "7",
		"SELECT count(*) FROM sqlite_master WHERE type='trigger'": "1",
	} {
		got, err := into.Value(context.Background(), query, nil)
		require.NoError(t, err, query)
		assert.Equal(t, want, got, query)
	}
	require.NoError(t, into.Close())
}
