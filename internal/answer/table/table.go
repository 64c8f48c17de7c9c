// Package table reads many installs from one file: a table as RFC 4180 has it, with any of
// the usual separators, whose columns are answers.
package table

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"

	"tivset/internal/fault"
)

// Limits of a table.
const (
	Longest  = 64 << 20 // bytes
	MostRows = 100_000
)

// The columns of tables of results: of installs, and of anything else. A table that was written so can be read again.
var (
	InstallResults = []string{"line", "address", "outcome", "admin area", "name", "problem"}
	Results        = []string{"line", "address", "outcome", "problem", "what came of it"}
)

// Password is the column of passwords, where they were asked for.
const Password = "password"

// Table is what was read.
type Table struct {
	Columns []string // as they stand in the first line, in lower case
	Rows    []Row
}

// Row is one of its rows.
type Row struct {
	Line   int // in the file, from 1; a value in quotation marks may go over several
	Values map[string]string
}

// separators are those of which one stands between values.
var separators = []rune{',', ';', '\t', '|'}

// Read reads a table. All that is wrong with its form comes back at once, by line.
func Read(text []byte) (Table, error) {
	var t Table
	if len(text) > Longest {
		return t, fault.New(fault.Usage, "the table is too large", fmt.Sprintf("%d MB", len(text)>>20),
			fmt.Sprintf("Use at most %d MB, in several tables.", Longest>>20))
	}
	if bytes.HasPrefix(text, []byte{0xff, 0xfe}) || bytes.HasPrefix(text, []byte{0xfe, 0xff}) || !utf8.Valid(text) {
		return t, fault.New(fault.Usage, "the table is not text in UTF-8", wrongByte(text), "Save it as CSV in UTF-8.")
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	r := csv.NewReader(bytes.NewReader(text))
	r.Comma, r.FieldsPerRecord = separator(text), -1
	var problems []fault.Problem
	wrong := func(line int, what, remedy string) {
		problems = append(problems, fault.Problem{ID: fmt.Sprintf("line %d", line), What: what, Remedy: remedy})
	}
	for {
		record, err := r.Read()
		var parse *csv.ParseError
		switch {
		case errors.Is(err, io.EOF):
			return t, t.checked(problems)
		case errors.As(err, &parse): // what follows cannot be told apart any more
			wrong(parse.StartLine, parse.Err.Error(), "Write a value with separators, line ends or quotation marks in it in "+
				"quotation marks, and a mark in it twice.")
			return t, t.checked(problems)
		case err != nil:
			return t, err
		}
		line, _ := r.FieldPos(0)
		switch {
		case t.Columns == nil:
			t.Columns = columns(record, func(what string) { wrong(line, what, "Name each column once.") })
		case len(record) == 1 && strings.TrimSpace(record[0]) == "" && len(t.Columns) > 1: // an empty line with spaces
		case len(record) != len(t.Columns):
			wrong(line, fmt.Sprintf("it has %d values, and the table has %d columns", len(record), len(t.Columns)),
				"Fill in what is missing, or put what has separators in it in quotation marks.")
		case len(t.Rows) == MostRows:
			wrong(line, fmt.Sprintf("the table has more than %d rows", MostRows), "Make several tables of it.")
			return t, t.checked(problems)
		default:
			row := Row{Line: line, Values: map[string]string{}}
			for i, value := range record {
				row.Values[t.Columns[i]] = strings.TrimSpace(value)
			}
			t.Rows = append(t.Rows, row)
		}
	}
}

func (t Table) checked(problems []fault.Problem) error {
	if len(problems) > 0 {
		return fault.Join("the table cannot be read", "Nothing was touched.", problems)
	}
	if len(t.Columns) == 0 || len(t.Rows) == 0 {
		return fault.New(fault.Usage, "the table has no rows", "",
			"Its first line names the columns, such as app,at,title; each further line is a site.")
	}
	return nil
}

// wrongByte says where text stops being UTF-8.
func wrongByte(text []byte) string {
	line := 1
	for len(text) > 0 {
		r, n := utf8.DecodeRune(text)
		if r == utf8.RuneError && n < 2 {
			return fmt.Sprintf("line %d", line)
		}
		if r == '\n' {
			line++
		}
		text = text[n:]
	}
	return "its beginning"
}

// separator is the one that stands most often in the first line, outside of quotation
// marks.
func separator(text []byte) rune {
	first, _, _ := bytes.Cut(text, []byte("\n"))
	counts, quoted := map[rune]int{}, false
	for _, r := range string(first) {
		if r == '"' {
			quoted = !quoted
		} else if !quoted {
			counts[r]++
		}
	}
	return slices.MaxFunc(separators, func(a, b rune) int { return counts[a] - counts[b] })
}

// columns reads the first line.
func columns(record []string, wrong func(what string)) []string {
	var out []string
	for i, name := range record {
		name = strings.ToLower(strings.TrimSpace(name))
		switch {
		case name == "":
			wrong(fmt.Sprintf("column %d has no name", i+1))
		case slices.Contains(out, name):
			wrong("the column " + name + " stands twice")
		}
		out = append(out, name)
	}
	return out
}

var place = regexp.MustCompile(`\{([a-z][a-z0-9_. -]*)\}`)

// Fill puts a row's values into a text: {number} stands for that of the column number. What
// no column is called stays as it is.
func (r Row) Fill(text string) string {
	return place.ReplaceAllStringFunc(text, func(at string) string {
		if value, is := r.Values[at[1:len(at)-1]]; is {
			return value
		}
		return at
	})
}

// Used gives the columns of a row that a text has places for.
func (r Row) Used(text string) (out []string) {
	for _, m := range place.FindAllStringSubmatch(text, -1) {
		if _, is := r.Values[m[1]]; is {
			out = append(out, m[1])
		}
	}
	return out
}

// Used gives the columns that a text has places for.
func (t Table) Used(text string) (out []string) {
	for _, m := range place.FindAllStringSubmatch(text, -1) {
		if slices.Contains(t.Columns, m[1]) {
			out = append(out, m[1])
		}
	}
	return out
}
