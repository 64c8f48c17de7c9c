package mariadb

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/hex"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
)

// longestInsert is about how many bytes one INSERT of a dump has at most; less
// than every server takes. So many bytes are loaded as one transaction: a
// server writes to its disk at the end of each.
const (
	longestInsert = 700 << 10
	transaction   = 16 << 20
)

// Dump implements database.Session. All is of one moment, as far as the
// tables' engine can tell moments apart.
func (s *Session) Dump(ctx context.Context, into io.Writer, only func(string) bool) error {
	d := &dump{ctx, s, bufio.NewWriterSize(into, 256<<10), only}
	for _, statement := range []string{"SET time_zone = '+00:00'",
		"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ", "START TRANSACTION WITH CONSISTENT SNAPSHOT"} {
		if _, err := s.pool.ExecContext(ctx, statement); err != nil {
			return explain(err, s.login)
		}
	}
	err := d.all()
	if _, end := s.pool.ExecContext(ctx, "COMMIT"); err == nil {
		err = end
	}
	if err != nil {
		return explain(err, s.login)
	}
	return d.out.Flush()
}

type dump struct {
	ctx     context.Context
	session *Session
	out     *bufio.Writer
	only    func(string) bool // nil for all
}

func (d *dump) wants(table string) bool { return d.only == nil || d.only(table) }

func (d *dump) line(text string) { fmt.Fprintln(d.out, text) }

func (d *dump) all() error {
	d.line("SET NAMES utf8mb4;\nSET foreign_key_checks = 0;\nSET unique_checks = 0;\nSET time_zone = '+00:00';\nSET " +
		"sql_mode = 'NO_AUTO_VALUE_ON_ZERO';")
	var views []string
	tables, err := d.columns("SHOW FULL TABLES", 2)
	if err != nil {
		return err
	}
	for _, t := range tables {
		if !d.wants(t[0]) {
			continue
		}
		if t[1] == "VIEW" {
			views = append(views, t[0])
			continue
		}
		if err := d.table(t[0]); err != nil {
			return fmt.Errorf("table %s: %w", t[0], err)
		}
	}
	if err := d.triggers(); err != nil {
		return err
	}
	if err := d.views(views); err != nil {
		return err
	}
	if err := d.routines(); err != nil {
		return err
	}
	d.line("SET foreign_key_checks = 1;\nSET unique_checks = 1;")
	return nil
}

// listed are the procedures, functions and events of a database of the site's
// own; in one that is shared nobody can tell whose they are.
func (d *dump) listed(kind string) ([]string, error) {
	if d.only != nil {
		return nil, nil
	}
	query := "SHOW " + kind + " STATUS WHERE Db = DATABASE()"
	if kind == "EVENT" {
		query = "SHOW EVENTS"
	}
	all, err := d.columns(query, 2)
	var out []string
	for _, r := range all {
		out = append(out, r[1])
	}
	return out, err
}

// routines come last: nothing of them is looked at before it is called.
func (d *dump) routines() error {
	for _, kind := range []string{"PROCEDURE", "FUNCTION", "EVENT"} {
		column := 2
		if kind == "EVENT" {
			column = 3
		}
		names, err := d.listed(kind)
		if err != nil {
			return err
		}
		for _, name := range names {
			made, err := d.columns("SHOW CREATE "+kind+" "+quoteName(name), 4)
			if err != nil {
				return err
			}
			if made[0][column] == "" {
				return fmt.Errorf("the user may not read how %s %s is made, so that it cannot be backed up", strings.ToLower(kind),
					name)
			}
			d.line("DELIMITER ;;\n" + definer.ReplaceAllString(made[0][column], "") + ";;\nDELIMITER ;")
		}
	}
	return nil
}

// Empty implements database.Session.
func (s *Session) Empty(ctx context.Context, only func(string) bool) error {
	d := &dump{ctx: ctx, session: s, only: only}
	drops := []string{"SET foreign_key_checks = 0"}
	tables, err := d.columns("SHOW FULL TABLES", 2)
	if err != nil {
		return explain(err, s.login)
	}
	for _, t := range tables {
		if d.wants(t[0]) && t[1] == "VIEW" {
			drops = append(drops, "DROP VIEW IF EXISTS "+quoteName(t[0]))
		} else if d.wants(t[0]) {
			drops = append(drops, "DROP TABLE IF EXISTS "+quoteName(t[0]))
		}
	}
	for _, kind := range []string{"PROCEDURE", "FUNCTION", "EVENT"} {
		names, err := d.listed(kind)
		if err != nil {
			return explain(err, s.login)
		}
		for _, name := range names {
			drops = append(drops, "DROP "+kind+" IF EXISTS "+quoteName(name))
		}
	}
	for _, statement := range append(drops, "SET foreign_key_checks = 1") {
		if _, err := s.pool.ExecContext(ctx, statement); err != nil {
			return explain(err, s.login)
		}
	}
	return nil
}

// columns gives the first columns of every row, as text.
func (d *dump) columns(query string, count int) (out [][]string, err error) {
	rows, err := d.session.pool.QueryContext(d.ctx, query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		row := make([]sql.NullString, max(len(names), count))
		into := make([]any, len(names))
		for i := range into {
			into[i] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		texts := make([]string, count)
		for i := range texts {
			texts[i] = row[i].String
		}
		out = append(out, texts)
	}
	return out, rows.Err()
}

func (d *dump) table(name string) error {
	made, err := d.columns("SHOW CREATE TABLE "+quoteName(name), 2)
	if err != nil {
		return err
	}
	d.line(made[0][1] + ";")
	// Columns that the server computes take no values.
	columns, err := d.columns("SHOW FULL COLUMNS FROM "+quoteName(name), 7)
	if err != nil {
		return err
	}
	var names []string
	for _, c := range columns {
		if !strings.Contains(strings.ToUpper(c[6]), "GENERATED") && !strings.Contains(strings.ToUpper(c[6]), "VIRTUAL") {
			names = append(names, quoteName(c[0]))
		}
	}
	return d.rows(name, strings.Join(names, ", "))
}

func (d *dump) rows(table, names string) error {
	rows, err := d.session.pool.QueryContext(d.ctx, "SELECT "+names+" FROM "+quoteName(table))
	if err != nil {
		return err
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return err
	}
	values := make([]sql.RawBytes, len(types))
	into := make([]any, len(types))
	for i := range into {
		into[i] = &values[i]
	}
	kinds := make([]kind, len(types))
	for i := range types {
		kinds[i] = kindOf(types[i].DatabaseTypeName())
	}
	begin := "INSERT INTO " + quoteName(table) + " (" + names + ") VALUES\n"
	length, open, row := 0, 0, []byte(nil)
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		before := ",\n"
		if length == 0 || length > longestInsert {
			switch {
			case open == 0:
				d.line("START TRANSACTION;")
			case open > transaction:
				d.line(";\nCOMMIT;\nSTART TRANSACTION;")
				open = 0
			default:
				d.line(";")
			}
			before, length = begin, 0
		}
		row = append(append(row[:0], before...), '(')
		for i, v := range values {
			if i > 0 {
				row = append(row, ',')
			}
			row = appendValue(row, v, kinds[i])
		}
		row = append(row, ')')
		length, open = length+len(row), open+len(row)
		if _, err := d.out.Write(row); err != nil {
			return err
		}
	}
	if length > 0 {
		d.line(";\nCOMMIT;")
	}
	return rows.Err()
}

// kind is how values of a column are written.
type kind int

const (
	texts kind = iota
	plain      // numbers
	bits       // binary
)

func kindOf(name string) kind {
	name = strings.TrimPrefix(name, "UNSIGNED ")
	switch {
	case slices.Contains(numbers, name):
		return plain
	case slices.Contains(binary, name):
		return bits
	}
	return texts
}

var (
	numbers = []string{"TINYINT", "SMALLINT", "MEDIUMINT", "INT", "BIGINT", "DECIMAL", "FLOAT", "DOUBLE", "YEAR"}
	binary  = []string{"BINARY", "VARBINARY", "TINYBLOB", "BLOB", "MEDIUMBLOB", "LONGBLOB", "BIT", "GEOMETRY"}
	escapes = [256]byte{'\\': '\\', '\'': '\'', '\n': 'n', '\r': 'r', 0: '0', 0x1a: 'Z'}
)

// appendValue writes a value as the server reads it (MariaDB manual, "String
// Literals", "Hexadecimal Literals").
func appendValue(to []byte, v sql.RawBytes, k kind) []byte {
	switch {
	case v == nil:
		return append(to, "NULL"...)
	case k == plain:
		return append(to, v...)
	case k == bits && len(v) > 0:
		return hex.AppendEncode(append(to, "0x"...), v)
	}
	to = append(to, '\'')
	done := 0
	for i, c := range v {
		if e := escapes[c]; e != 0 {
			to = append(append(to, v[done:i]...), '\\', e)
			done = i + 1
		}
	}
	return append(append(to, v[done:]...), '\'')
}

// definer names who made a view or trigger, which another server may not know.
var definer = regexp.MustCompile("DEFINER=(`[^`]*`|'[^']*')@(`[^`]*`|'[^']*') ")

func (d *dump) triggers() error {
	all, err := d.columns("SHOW TRIGGERS", 3)
	if err != nil {
		return err
	}
	for _, t := range all {
		if !d.wants(t[2]) {
			continue
		}
		made, err := d.columns("SHOW CREATE TRIGGER "+quoteName(t[0]), 3)
		if err != nil {
			return err
		}
		d.line("DELIMITER ;;\n" + definer.ReplaceAllString(made[0][2], "") + ";;\nDELIMITER ;")
	}
	return nil
}

// views may look at one another: each is tried to be written after those that
// it names.
func (d *dump) views(names []string) error {
	if len(names) == 0 {
		return nil
	}
	who, err := d.columns("SELECT CURRENT_USER()", 1)
	if err != nil {
		return err
	}
	texts := map[string]string{}
	for _, name := range names {
		if texts[name], err = d.view(name, who[0][0]); err != nil {
			return err
		}
	}
	for len(texts) > 0 {
		before := len(texts)
		for _, name := range names {
			text, left := texts[name]
			if !left || slices.ContainsFunc(names, func(other string) bool {
				_, waits := texts[other]
				return waits && other != name && strings.Contains(text, quoteName(other))
			}) {
				continue
			}
			d.line(text)
			delete(texts, name)
		}
		if len(texts) == before {
			return fmt.Errorf("views that look at one another: %s", strings.Join(names, ", "))
		}
	}
	return nil
}

// view writes one as whoever loads it made it. One that the site's own user made
// acts with that user's rights, as before; of one by somebody else, whom another
// server may not know, whoever asks needs the rights. Texts in it are compared as
// they were where it was made (MariaDB manual, "SHOW CREATE VIEW").
func (d *dump) view(name, user string) (string, error) {
	made, err := d.columns("SHOW CREATE VIEW "+quoteName(name), 4)
	if err != nil {
		return "", err
	}
	text, charset, collation := made[0][1], made[0][2], made[0][3]
	by := strings.NewReplacer("`", "", "'", "", "DEFINER=", "", " ", "").Replace(definer.FindString(text))
	text = strings.ReplaceAll(definer.ReplaceAllString(text, ""), quoteName(d.session.login.Database)+".", "")
	if by != user {
		text = strings.ReplaceAll(text, "SQL SECURITY DEFINER ", "SQL SECURITY INVOKER ")
	}
	if !strings.HasPrefix(charset, "utf8") || collation == "" { // the text stands here in UTF-8
		return text + ";", nil
	}
	return fmt.Sprintf("SET character_set_client = %s;\nSET collation_connection = %s;\n%s;\nSET NAMES utf8mb4;", charset,
		collation, text), nil
}
