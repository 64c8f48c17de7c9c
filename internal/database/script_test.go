package database_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/database"
)

func split(t *testing.T, script, from, to string) []string {
	t.Helper()
	var out []string
	err := database.Statements(strings.NewReader(script), database.ScriptOptions{From: from, To: to}, func(s string, line int) error {
		out = append(out, fmt.Sprintf("%d:%s", line, s))
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
		assert.Equal(t, want, split(t, script, "", ""), script)
	}
}

func TestPrefix(t *testing.T) {
	for script, want := range map[string]string{
		"SELECT * FROM ink_posts":                      "SELECT * FROM t1_posts",
		"INSERT INTO `ink_posts` (a) VALUES (1)":       "INSERT INTO `t1_posts` (a) VALUES (1)",
		"SELECT 'ink_posts', \"ink_x\" FROM ink_a":     "SELECT 'ink_posts', \"ink_x\" FROM t1_a",
		"SELECT drink_a, my_ink_b, ink_c.ink_d FROM x": "SELECT drink_a, my_ink_b, t1_c.t1_d FROM x",
		"(ink_a,ink_b)":                                "(t1_a,t1_b)",
		"SELECT `x`.`ink_a`, `drink_a`":                "SELECT `x`.`t1_a`, `drink_a`",
		"SELECT INK_A":                                 "SELECT INK_A",
	} {
		assert.Equal(t, []string{"1:" + want}, split(t, script, "ink_", "t1_"))
	}
}

func TestUnfinished(t *testing.T) {
	for _, script := range []string{"SELECT 'a", "SELECT \"a\\\"", "SELECT `a", "SELECT /* a"} {
		err := database.Statements(strings.NewReader(script), database.ScriptOptions{}, func(string, int) error { return nil })
		assert.ErrorContains(t, err, "line 1", script)
	}
}

func TestPositional(t *testing.T) {
	text, args, err := database.Positional("UPDATE `a:b` SET x = :x, y = ':x' WHERE z = :z-z OR x = :x AND t > '10:20'", map[string]string{"x": "1", "z-z": "2"})
	require.NoError(t, err)
	assert.Equal(t, "UPDATE `a:b` SET x = ?, y = ':x' WHERE z = ? OR x = ? AND t > '10:20'", text)
	assert.Equal(t, []any{"1", "2", "1"}, args)
	_, _, err = database.Positional("SELECT :nope", nil)
	assert.ErrorContains(t, err, ":nope")
	_, _, err = database.Positional("SELECT ?", nil)
	assert.ErrorContains(t, err, "question marks")
}

func FuzzStatements(f *testing.F) {
	f.Add("SELECT 'a;b'; -- x\nDELIMITER $$\nx$$")
	f.Fuzz(func(t *testing.T, script string) {
		_ = database.Statements(strings.NewReader(script), database.ScriptOptions{From: "a_", To: "b_"}, func(string, int) error { return nil })
	})
}
