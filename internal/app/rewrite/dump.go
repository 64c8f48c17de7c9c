package rewrite

import (
	"bufio"
	"bytes"
	"encoding/hex"
	"errors"
	"io"
	"slices"
	"strings"

	"tivset/internal/hosting/database"
)

// Wanted says whether the addresses in a column are to be replaced.
type Wanted func(table, column string) bool

// Dump replaces the address in the rows of a dump, as packages below database
// write it, while it goes through. What it keeps in memory is one row.
// Left are the rows, by table, that hold an old address and are not to be changed.
func (a *Address) Dump(engine string, wanted Wanted, from io.Reader, to io.Writer) (left map[string]int, err error) {
	d := &dump{a: a, wanted: wanted, in: bufio.NewReaderSize(from, 1<<20), out: bufio.NewWriterSize(to, 1<<20),
		form: formOf(engine), left: map[string]int{}}
	for _, n := range a.needles {
		digits := []byte(hex.EncodeToString(n))
		if d.form.upper {
			digits = bytes.ToUpper(digits)
		}
		d.hex = append(d.hex, digits)
	}
	for {
		line, err := d.line()
		if len(line) > 0 {
			if err := d.take(line); err != nil {
				return nil, err
			}
		}
		if errors.Is(err, io.EOF) {
			return d.left, d.out.Flush()
		}
		if err != nil {
			return nil, err
		}
	}
}

type dump struct {
	a      *Address
	wanted Wanted
	in     *bufio.Reader
	out    *bufio.Writer
	form   form
	hex    [][]byte // what is looked for in the digits of a binary value
	table  string   // whose rows are coming
	left   map[string]int
	long   []byte
	rows   bool   // rows are coming
	which  []bool // the columns whose addresses are replaced
}

// line gives the next line; of SQLite's dumps, whose texts hold line breaks, one
// that is whole.
func (d *dump) line() ([]byte, error) {
	line, err := d.in.ReadSlice('\n')
	whole := func(b []byte) bool { return !d.form.breaks || bytes.Count(b, []byte("'"))%2 == 0 }
	if err == nil && whole(line) {
		return line, nil
	}
	d.long = append(d.long[:0], line...)
	for err == nil && !whole(d.long) || errors.Is(err, bufio.ErrBufferFull) {
		line, err = d.in.ReadSlice('\n')
		d.long = append(d.long, line...)
	}
	return d.long, err
}

func (d *dump) take(line []byte) error {
	head := d.form.begins(line)
	switch {
	case head > 0:
		d.rows = true
		d.columns(line[:head])
		if d.form.inline { // the row is on the same line
			if _, err := d.out.Write(line[:head]); err != nil {
				return err
			}
			line = line[head:]
		} else {
			_, err := d.out.Write(line)
			return err
		}
	case d.rows && d.form.over(line):
		d.rows = false
	}
	if d.rows &&
		(d.a.concerns(line) || slices.ContainsFunc(d.hex, func(h []byte) bool { return bytes.Contains(line, h) })) {
		line = d.row(line)
	}
	_, err := d.out.Write(line)
	if d.form.inline {
		d.rows = false
	}
	return err
}

// columns reads a table's name and columns from the beginning of its rows.
func (d *dump) columns(head []byte) {
	names := d.form.names(string(head))
	d.which, d.table = d.which[:0], ""
	if len(names) == 0 {
		return
	}
	d.table = names[0]
	for _, column := range names[1:] {
		d.which = append(d.which, d.wanted(names[0], column))
	}
}

// row replaces in the columns that are wanted, and counts it when another holds
// what would be replaced.
func (d *dump) row(line []byte) []byte {
	var out []byte
	done, left := 0, false
	for i, field := range d.form.fields(line) {
		if i >= len(d.which) {
			continue
		}
		raw := line[field[0]:field[1]]
		value, write := d.form.value(raw)
		if write == nil {
			continue
		}
		changed := d.a.Value(value)
		if bytes.Equal(changed, value) {
			continue
		}
		if !d.which[i] {
			left = true
			continue
		}
		out = append(append(out, line[done:field[0]]...), write(changed)...)
		done = field[1]
	}
	if left {
		d.left[d.table]++
	}
	return append(out, line[done:]...)
}

// form is how one engine's dump writes rows.
type form struct {
	upper  bool                       // binary values are in capital digits
	breaks bool                       // texts hold line breaks
	inline bool                       // the row follows on the line that names its columns
	begins func(line []byte) int      // the length of what names table and columns, 0 for other lines
	names  func(head string) []string // the table, then its columns
	over   func(line []byte) bool     // no more rows come
	fields func(line []byte) [][2]int // where the values are
	// a value, and how another is written in its place; nil for numbers and the like
	value func(raw []byte) ([]byte, func([]byte) []byte)
}

func formOf(engine string) form {
	e, _ := database.EngineOf(engine)
	switch e.Dump {
	case database.Copied:
		return form{begins: copyBegins, names: names('"'), over: func(l []byte) bool {
			return bytes.HasPrefix(l, []byte(`\.`))
		}, fields: tabs, value: copied}
	case database.Literals:
		return form{breaks: true, upper: true, inline: true, begins: inlineBegins, names: names('"'),
			over: func([]byte) bool {
				return false
			}, fields: literals(false), value: doubled}
	}
	return form{begins: insertBegins, names: names('`'), over: func(l []byte) bool {
		return l[0] != '('
	}, fields: literals(true), value: backslashed}
}

func insertBegins(line []byte) int {
	if bytes.HasPrefix(line, []byte("INSERT INTO ")) && bytes.HasSuffix(bytes.TrimRight(line, "\r\n"), []byte(" VALUES")) {
		return len(line)
	}
	return 0
}

func inlineBegins(line []byte) int {
	if !bytes.HasPrefix(line, []byte("INSERT INTO ")) {
		return 0
	}
	if i := bytes.Index(line, []byte(") VALUES (")); i > 0 {
		return i + len(") VALUES ")
	}
	return 0
}

func copyBegins(line []byte) int {
	if bytes.HasPrefix(line, []byte("COPY ")) && bytes.HasSuffix(bytes.TrimRight(line, "\r\n"), []byte(" FROM stdin;")) {
		return len(line)
	}
	return 0
}

// names reads the names of a head, quoted or not.
func names(quote byte) func(string) []string {
	return func(head string) []string {
		head = strings.TrimPrefix(strings.TrimPrefix(head, "INSERT INTO "), "COPY ")
		var out []string
		var name strings.Builder
		quoted := false
		for i := 0; i < len(head); i++ {
			switch c := head[i]; {
			case c == quote && quoted && i+1 < len(head) && head[i+1] == quote:
				name.WriteByte(c)
				i++
			case c == quote:
				quoted = !quoted
			case quoted || c != ' ' && c != '(' && c != ',' && c != ')':
				name.WriteByte(c)
			case name.Len() > 0:
				out = append(out, name.String())
				name.Reset()
				if c == ')' {
					return out
				}
			}
		}
		return out
	}
}

// literals finds the values of a row in parentheses.
func literals(backslashes bool) func([]byte) [][2]int {
	return func(line []byte) (out [][2]int) {
		begin, quoted := bytes.IndexByte(line, '(')+1, false
		for i := begin; i < len(line); i++ {
			switch c := line[i]; {
			case quoted && backslashes && c == '\\':
				i++
			case c == '\'':
				quoted = !quoted
			case !quoted && (c == ',' || c == ')'):
				out = append(out, [2]int{begin, i})
				if c == ')' {
					return out
				}
				begin = i + 1
			}
		}
		return out
	}
}

func tabs(line []byte) (out [][2]int) {
	begin := 0
	for i, c := range line {
		if c == '\t' || c == '\n' {
			out = append(out, [2]int{begin, i})
			begin = i + 1
		}
	}
	return out
}

// backslashed reads a literal of MariaDB's.
func backslashed(raw []byte) ([]byte, func([]byte) []byte) {
	if digits, is := bytes.CutPrefix(raw, []byte("0x")); is {
		return binary(digits, "0x", "", false)
	}
	if len(raw) < 2 || raw[0] != '\'' {
		return nil, nil
	}
	out := make([]byte, 0, len(raw))
	for i := 1; i < len(raw)-1; i++ {
		c := raw[i]
		if c == '\\' && i+1 < len(raw)-1 {
			i++
			if c = raw[i]; strings.IndexByte("nr0Ztb", c) >= 0 {
				c = map[byte]byte{'n': '\n', 'r': '\r', '0': 0, 'Z': 0x1a, 't': '\t', 'b': '\b'}[c]
			}
		}
		out = append(out, c)
	}
	return out, func(v []byte) []byte {
		return []byte("'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`, "\n", `\n`, "\r", `\r`, "\x00", `\0`, "\x1a",
			`\Z`).Replace(string(v)) + "'")
	}
}

// doubled reads a literal of SQLite's.
func doubled(raw []byte) ([]byte, func([]byte) []byte) {
	if len(raw) > 2 && raw[0] == 'X' {
		return binary(raw[2:len(raw)-1], "X'", "'", true)
	}
	if len(raw) < 2 || raw[0] != '\'' {
		return nil, nil
	}
	return bytes.ReplaceAll(raw[1:len(raw)-1], []byte("''"), []byte("'")), func(v []byte) []byte {
		return append(append([]byte("'"), bytes.ReplaceAll(v, []byte("'"), []byte("''"))...), '\'')
	}
}

// copied reads a field of COPY's text format (PostgreSQL manual, COPY).
func copied(raw []byte) ([]byte, func([]byte) []byte) {
	if bytes.Equal(raw, []byte(`\N`)) {
		return nil, nil
	}
	if digits, is := bytes.CutPrefix(raw, []byte(`\\x`)); is {
		if v, write := binary(digits, `\\x`, "", false); write != nil {
			return v, write
		}
	}
	out := make([]byte, 0, len(raw))
	for i := 0; i < len(raw); i++ {
		c := raw[i]
		if c == '\\' && i+1 < len(raw) {
			i++
			if c = raw[i]; strings.IndexByte("nrtbfv", c) >= 0 {
				c = map[byte]byte{'n': '\n', 'r': '\r', 't': '\t', 'b': '\b', 'f': '\f', 'v': '\v'}[c]
			}
		}
		out = append(out, c)
	}
	return out, func(v []byte) []byte {
		return []byte(strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`, "\t", `\t`, "\b", `\b`, "\f", `\f`, "\v",
			`\v`).Replace(string(v)))
	}
}

// binary reads a value written in hexadecimal.
func binary(digits []byte, before, after string, upper bool) ([]byte, func([]byte) []byte) {
	v, err := hex.DecodeString(string(digits))
	if err != nil {
		return nil, nil
	}
	return v, func(v []byte) []byte {
		text := hex.EncodeToString(v)
		if upper {
			text = strings.ToUpper(text)
		}
		return []byte(before + text + after)
	}
}
