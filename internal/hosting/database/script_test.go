package database_test

import (
	"fmt"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
)

func split(t *testing.T, syntax database.Syntax, script, from, to string) []string {
	t.Helper()
	var out []string
	err := database.Statements(strings.NewReader(script), syntax, database.ScriptOptions{From: from, To: to},
		func(s database.Statement) error {
			text := fmt.Sprintf("%d:%s", s.Line, s.Text)
			if s.Data != nil {
				rows, err := io.ReadAll(s.Data)
				require.NoError(t, err)
				text += "|" + string(rows)
			}
			out = append(out, text)
			return nil
		})
	require.NoError(t, err)
	return out
}

func TestStatements(t *testing.T) {
	for script, want := range map[string][]string{
		"":                                 nil,
		" ;; \n ; ":                        nil,
		"SELECT 1":                         {"1:SELECT 1"},
		"\n\nSELECT 1;\nSELECT 2;":         {"3:SELECT 1", "4:SELECT 2"},
		"SELECT ';' , \";\", `;`;x":        {"1:SELECT ';' , \";\", `;`", "1:x"},
		`SELECT 'it''s \'; here';x`:        {`1:SELECT 'it''s \'; here'`, "1:x"},
		`SELECT '\\';x`:                    {`1:SELECT '\\'`, "1:x"},
		"-- a; b\nSELECT 1 -- c; d\n+ 1;":  {"2:SELECT 1 \n+ 1"},
		"# a; b\nSELECT 1;":                {"2:SELECT 1"},
		"SELECT 5--1;":                     {"1:SELECT 5--1"},
		"/* a; b */SELECT/* c; */ 1;":      {"1:SELECT  1"},
		"/*!40101 SET x = 1; */;SELECT 1;": {"1:/*!40101 SET x = 1; */", "1:SELECT 1"},
		"DELIMITER $$\nBEGIN a; b; END$$\nDELIMITER ;\nSELECT 1;": {"2:BEGIN a; b; END", "4:SELECT 1"},
		"delimiter //\nx;y//\n":                                   {"2:x;y"},
		"a--":                                                     {"1:a"},
	} {
		assert.Equal(t, want, split(t, database.MariaDB.Syntax, script, "", ""), script)
	}
}

func TestOtherSyntaxes(t *testing.T) {
	for _, c := range []struct {
		syntax database.Syntax
		script string
		want   []string
	}{
		{database.PostgreSQL.Syntax, "CREATE FUNCTION f() AS $$ a; 'b $$; x",
			[]string{"1:CREATE FUNCTION f() AS $$ a; 'b $$", "1:x"}},
		{database.PostgreSQL.Syntax, "AS $fn_1$ $$;$$ ; $fn_1$ LANGUAGE sql; SELECT $1;",
			[]string{"1:AS $fn_1$ $$;$$ ; $fn_1$ LANGUAGE sql", "1:SELECT $1"}},
		{database.PostgreSQL.Syntax, `SELECT 'a\'; SELECT E'a\'; b', "c;d";`,
			[]string{`1:SELECT 'a\'`, `1:SELECT E'a\'; b', "c;d"`}},
		{database.PostgreSQL.Syntax, "SELECT 1 --x;\n/* a /* b; */ c; */ + 2;", []string{"1:SELECT 1 \n  + 2"}},
		{database.PostgreSQL.Syntax, "\\restrict abc\nCOPY public.a (x, y) FROM stdin;\n1\ta;b\n2\t\\N\n\\.\n\nSELECT 2;",
			[]string{"2:COPY public.a (x, y) FROM stdin|1\ta;b\n2\t\\N\n", "7:SELECT 2"}},
		{database.PostgreSQL.Syntax, "# is no comment; x", []string{"1:# is no comment", "1:x"}},
		{database.PostgreSQL.Syntax, "CREATE RULE r AS ON INSERT TO v DO INSTEAD (SELECT 1; SELECT ')';);x",
			[]string{"1:CREATE RULE r AS ON INSERT TO v DO INSTEAD (SELECT 1; SELECT ')';)", "1:x"}},
		{database.MariaDB.Syntax, "SELECT (1;x", []string{"1:SELECT (1", "1:x"}},
		{database.SQLite.Syntax,
			"CREATE TRIGGER t AFTER INSERT ON a BEGIN UPDATE a SET x = 1; DELETE FROM b; END; SELECT [a;b], `c;`;",
			[]string{"1:CREATE TRIGGER t AFTER INSERT ON a BEGIN UPDATE a SET x = 1; DELETE FROM b; END",
				"1:SELECT [a;b], `c;`"}},
		{database.SQLite.Syntax, `SELECT 'a\'; SELECT "it''s;";`, []string{`1:SELECT 'a\'`, `1:SELECT "it''s;"`}},
		{database.MariaDB.Syntax, "SELECT /*/ ; */ 1;", []string{"1:SELECT   1"}},
	} {
		assert.Equal(t, c.want, split(t, c.syntax, c.script, "", ""), c.script)
	}
	assert.Equal(t, []string{`1:INSERT INTO "t1_a" SELECT 'ink_b' FROM t1_c`},
		split(t, database.PostgreSQL.Syntax, `INSERT INTO "ink_a" SELECT 'ink_b' FROM ink_c`, "ink_", "t1_"))
	for script, words := range map[string]string{"\\connect x\n": "command of a client",
		"COPY a FROM stdin;\n1\n": "no end", "SELECT $$ a": "between dollars"} {
		err := database.Statements(strings.NewReader(script), database.PostgreSQL.Syntax, database.ScriptOptions{},
			func(s database.Statement) error {
				if s.Data == nil {
					return nil
				}
				_, err := io.Copy(io.Discard, s.Data)
				return err
			})
		assert.ErrorContains(t, err, words)
	}
}

func TestPrefix(t *testing.T) {
	for script, want := range map[string]string{
		"SELECT * FROM ink_entries":                    "SELECT * FROM t1_entries",
		"INSERT INTO `ink_entries` (a) VALUES (1)":     "INSERT INTO `t1_entries` (a) VALUES (1)",
		"SELECT 'ink_entries', \"ink_x\" FROM ink_a":   "SELECT 'ink_entries', \"ink_x\" FROM t1_a",
		"SELECT drink_a, my_ink_b, ink_c.ink_d FROM x": "SELECT drink_a, my_ink_b, t1_c.t1_d FROM x",
		"(ink_a,ink_b)":                 "(t1_a,t1_b)",
		"SELECT `x`.`ink_a`, `drink_a`": "SELECT `x`.`t1_a`, `drink_a`",
		"SELECT INK_A":                  "SELECT INK_A",
	} {
		assert.Equal(t, []string{"1:" + want}, split(t, database.MariaDB.Syntax, script, "ink_", "t1_"))
	}
}

func TestUnfinished(t *testing.T) {
	for _, script := range []string{"SELECT 'a", "SELECT \"a\\\"", "SELECT `a", "SELECT /* a"} {
		err := database.Statements(strings.NewReader(script), database.MariaDB.Syntax, database.ScriptOptions{},
			func(database.Statement) error {
				return nil
			})
		assert.ErrorContains(t, err, "line 1", script)
	}
}

func TestPositional(t *testing.T) {
	text, args, err := database.Positional("UPDATE `a:b` SET x = :x, y = ':x' WHERE z = :z-z OR x = :x AND t > '10:20'",
		database.MariaDB.Syntax, map[string]string{"x": "1", "z-z": "2"}, database.Question)
	require.NoError(t, err)
	assert.Equal(t, "UPDATE `a:b` SET x = ?, y = ':x' WHERE z = ? OR x = ? AND t > '10:20'", text)
	assert.Equal(t, []any{"1", "2", "1"}, args)
	_, _, err = database.Positional("SELECT :nope", database.MariaDB.Syntax, nil, database.Question)
	assert.ErrorContains(t, err, ":nope")
	_, _, err = database.Positional("SELECT ?", database.MariaDB.Syntax, nil, database.Question)
	assert.ErrorContains(t, err, "question marks")
}

func FuzzStatements(f *testing.F) {
	f.Add("SELECT 'a;b'; -- x\nDELIMITER $$\nx$$")
	f.Fuzz(func(t *testing.T, script string) {
		for _, syntax := range []database.Syntax{database.MariaDB.Syntax, database.PostgreSQL.Syntax,
			database.SQLite.Syntax} {
			_ = database.Statements(strings.NewReader(script), syntax, database.ScriptOptions{From: "a_", To: "b_"},
				func(database.Statement) error {
					return nil
				})
		}
	})
}
