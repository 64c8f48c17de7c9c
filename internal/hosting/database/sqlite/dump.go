package sqlite

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"
)

// Dump implements database.Session.
func (s *Session) Dump(ctx context.Context, into io.Writer, only func(string) bool) error {
	out := bufio.NewWriter(into)
	made, err := s.definitions(ctx)
	if err != nil {
		return err
	}
	if err := s.dumpNumbers(ctx, out); err != nil {
		return err
	}
	wanted := func(table string) bool { return only == nil || only(table) }
	for _, m := range made {
		if m.kind != "table" || !wanted(m.name) {
			continue
		}
		fmt.Fprintf(out, "%s;\n", m.sql)
		if err := s.dumpRows(ctx, out, m.name); err != nil {
			return err
		}
	}
	if err := s.dumpCounters(ctx, out, wanted); err != nil {
		return err
	}
	for _, m := range made {
		if m.kind != "table" && wanted(m.table) {
			fmt.Fprintf(out, "%s;\n", m.sql)
		}
	}
	return out.Flush()
}

func (s *Session) dumpRows(ctx context.Context, out io.Writer, table string) error {
	columns, err := s.rows(ctx, "SELECT name FROM pragma_table_xinfo("+text(table)+") WHERE hidden = 0 ORDER BY cid")
	if err != nil {
		return err
	}
	var names, values []string
	for _, c := range columns {
		names = append(names, quote(c[0]))
		values = append(values, "quote("+quote(c[0])+")") // SQLite's own literals
	}
	list := strings.Join(names, ", ")
	rows, err := s.pool.QueryContext(ctx, "SELECT concat_ws(',', "+strings.Join(values, ", ")+") FROM "+quote(table))
	if err != nil {
		return explain(err)
	}
	defer rows.Close()
	var row string
	for rows.Next() {
		if err := rows.Scan(&row); err != nil {
			return err
		}
		fmt.Fprintf(out, "INSERT INTO %s (%s) VALUES (%s);\n", quote(table), list, row)
	}
	return explain(rows.Err())
}

// dumpCounters keeps what AUTOINCREMENT has counted.
func (s *Session) dumpCounters(ctx context.Context, out io.Writer, wanted func(string) bool) error {
	there, err := s.Value(ctx, "SELECT count(*) FROM sqlite_master WHERE name = 'sqlite_sequence'", nil)
	if err != nil || there == "0" {
		return err
	}
	counted, err := s.rows(ctx, "SELECT name, quote(CAST(seq AS INTEGER)) FROM sqlite_sequence")
	for _, c := range counted {
		if wanted(c[0]) {
			fmt.Fprintf(out, "DELETE FROM sqlite_sequence WHERE name = %s;\nINSERT INTO sqlite_sequence (name, seq) VALUES "+
				"(%s, %s);\n", text(c[0]), text(c[0]), c[1])
		}
	}
	return err
}

// Empty implements database.Session.
func (s *Session) Empty(ctx context.Context, only func(string) bool) error {
	all, err := s.Tables(ctx)
	if err != nil {
		return err
	}
	var names []string
	for _, name := range all {
		if only == nil || only(name) {
			names = append(names, name)
		}
	}
	return s.DropTables(ctx, names)
}

func text(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// dumpNumbers writes the numbers that apps keep in the file's header, such as that of
// their tables' form (sqlite.org/pragma.html, user_version and application_id).
func (s *Session) dumpNumbers(ctx context.Context, out io.Writer) error {
	for _, name := range []string{"user_version", "application_id"} {
		found, err := s.rows(ctx, "PRAGMA "+name)
		if err != nil {
			return err
		}
		if len(found) == 1 {
			fmt.Fprintf(out, "PRAGMA %s = %s;\n", name, found[0][0])
		}
	}
	return nil
}
