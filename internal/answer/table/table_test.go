package table_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer/table"
	"tivset/internal/fault"
)

// The usual separators, with a mark at the beginning or without, values over lines.
func TestReads(t *testing.T) {
	want := []map[string]string{{"at": "a.localhost/1", "title": "Knots, \"and\" bends", "n": "1"},
		{"at": "a.localhost/2", "title": "Two\nlines", "n": "2"}}
	for _, sep := range []string{",", ";", "\t", "|"} {
		for _, mark := range []string{"", "\ufeff"} {
			text := mark + strings.Join([]string{"At", " title ", "n"}, sep) + "\r\n" +
				strings.Join([]string{"a.localhost/1", `"Knots, ""and"" bends"`, "1"}, sep) + "\r\n\r\n" +
				strings.Join([]string{"a.localhost/2", "\"Two\nlines\"", " 2 "}, sep) + "\n"
			got, err := table.Read([]byte(text))
			require.NoError(t, err, "%q", sep)
			require.Len(t, got.Rows, 2)
			assert.Equal(t, want, []map[string]string{got.Rows[0].Values, got.Rows[1].Values})
			assert.Equal(t, []int{2, 4}, []int{got.Rows[0].Line, got.Rows[1].Line})
		}
	}
}

// What is wrong with the form is told at once, by line.
func TestTablesThatWillNotDo(t *testing.T) {
	for text, words := range map[string]string{
		"":                        "has no rows",
		"app,at\n":                "has no rows",
		"app,at\na,b,c\nd\ne,f\n": "line 2: it has 3 values",
		"app,app,\na,b,c\n":       "stands twice",
		"app,at\na,\"b\nc\n":      "line 2",
		"app,at\na,b\"c\"\n":      "line 2",
		"app,at\nK\xe4se,x\n":     "not text in UTF-8",
		"\xff\xfea\x00p\x00p\x00": "not text in UTF-8",
		"a,b\n" + strings.Repeat("1,2\n", table.MostRows+1): "more than 100000 rows",
	} {
		_, err := table.Read([]byte(text))
		require.Error(t, err, "%.40q", text)
		said := err.Error() + fmt.Sprint(fault.Of(err).Problems)
		assert.Contains(t, said, words)
	}
	_, err := table.Read([]byte("app,at\na,b,c\nd\ne,f\n"))
	assert.Len(t, fault.Of(err).Problems, 2)
}

func TestFills(t *testing.T) {
	got, err := table.Read([]byte("at,number,room no\nx,7,B 2\n"))
	require.NoError(t, err)
	assert.Equal(t, "Class 7 in B 2 {else} {}", got.Rows[0].Fill("Class {number} in {room no} {else} {}"))
	assert.Equal(t, []string{"number"}, got.Used("Class {number} {else}"))
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("app;at\na;\"b\"\n"))
	f.Fuzz(func(t *testing.T, text []byte) { _, _ = table.Read(text) })
}
