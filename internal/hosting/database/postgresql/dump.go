package postgresql

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/jackc/pgx/v5"

	"tivset/internal/fault"
)

// dump writes one script within one transaction, so that all of it is of one
// moment.
type dump struct {
	ctx  context.Context
	conn *pgx.Conn
	out  *bufio.Writer
	only func(string) bool
}

// Dump implements database.Session.
func (s *Session) Dump(ctx context.Context, into io.Writer, only func(string) bool) error {
	if only == nil {
		only = func(string) bool { return true }
	}
	return s.use(ctx, 100*replyTime, func(ctx context.Context, c *pgx.Conn) error {
		tx, err := c.BeginTx(ctx, pgx.TxOptions{IsoLevel: pgx.RepeatableRead, AccessMode: pgx.ReadOnly})
		if err != nil {
			return err
		}
		defer tx.Rollback(ctx)
		d := &dump{ctx, c, bufio.NewWriter(into), only}
		if err := d.exact(); err != nil {
			return err
		}
		d.line("SET client_encoding = 'UTF8';\nSET standard_conforming_strings = on;\nSET check_function_bodies = false;")
		parts := []func() error{d.types, d.sequences, d.functions, d.tables, d.rows, d.counters, d.constraints,
			d.indexes, d.views, d.rules, d.triggers}
		for _, part := range parts {
			if err := part(); err != nil {
				return err
			}
		}
		return d.out.Flush()
	})
}

func (d *dump) line(text string) { fmt.Fprintln(d.out, text) }

// each calls use with every row, whose columns are text. The first column is
// the name that decides whether the row is dumped.
func (d *dump) each(query string, use func(row []string)) error {
	rows, err := d.conn.Query(d.ctx, query)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var row []string
		for _, v := range rows.RawValues() {
			row = append(row, string(v))
		}
		if d.only(row[0]) {
			use(row)
		}
	}
	return rows.Err()
}

const (
	here = " n.nspname = current_schema() "
	// What an extension brought comes with the extension.
	notOfExtension = " AND NOT EXISTS (SELECT 1 FROM pg_depend x WHERE x.objid = %s AND x.deptype = 'e') "
)

// exact refuses a database with things in it that would not come back as they
// are: a dump that leaves something out is found out too late.
func (d *dump) exact() error {
	var found []string
	err := d.each(`SELECT t.typname, CASE t.typtype WHEN 'd' THEN 'domain ' ELSE 'range type ' END || t.typname
			FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace
			WHERE`+here+`AND t.typtype IN ('d', 'r')`+fmt.Sprintf(notOfExtension, "t.oid")+`
		UNION ALL SELECT c.relname, CASE WHEN c.relkind = 'm' THEN 'indexed materialized view ' WHEN c.relkind = 'f' THEN 'foreign table ' ELSE 'partitioned table ' END || c.relname
			FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE`+here+`AND (c.relkind IN ('p', 'f') OR c.relkind = 'm' AND c.relhasindex OR c.relispartition)`+fmt.Sprintf(notOfExtension, "c.oid")+`
		UNION ALL SELECT c.relname, 'inheritance of ' || c.relname FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE`+here+`AND c.relkind = 'r' AND NOT c.relispartition
		UNION ALL SELECT c.relname, 'policy ' || p.polname FROM pg_policy p JOIN pg_class c ON c.oid = p.polrelid JOIN pg_namespace n ON n.oid = c.relnamespace WHERE`+here+`
		UNION ALL SELECT p.proname, 'aggregate ' || p.proname FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE`+here+`AND p.prokind IN ('a', 'w')`+fmt.Sprintf(notOfExtension, "p.oid")+`
		ORDER BY 2`, func(r []string) { found = append(found, r[1]) })
	if err != nil || len(found) == 0 {
		return err
	}
	return fault.New(fault.Failed, "the database has what a dump from here would not bring back: "+
		strings.Join(found, ", "), "PostgreSQL", "Back it up with the server's own pg_dump.")
}

func (d *dump) types() error {
	if err := d.enums(); err != nil {
		return err
	}
	return d.each(
		`SELECT t.typname, string_agg(quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod), ', ' ORDER BY a.attnum)
		FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace JOIN pg_class c ON c.oid = t.typrelid AND c.relkind = 'c'
		JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
		WHERE`+here+`AND t.typtype = 'c'`+fmt.Sprintf(
			notOfExtension,
			"t.oid",
		)+`GROUP BY t.oid, t.typname ORDER BY t.oid`,
		func(r []string) {
			d.line("CREATE TYPE " + quote(r[0]) + " AS (" + r[1] + ");")
		},
	)
}

func (d *dump) enums() error {
	return d.each(`SELECT t.typname, string_agg(quote_literal(e.enumlabel), ', ' ORDER BY e.enumsortorder) FROM pg_type t
		JOIN pg_enum e ON e.enumtypid = t.oid JOIN pg_namespace n ON n.oid = t.typnamespace WHERE`+here+`GROUP BY t.typname ORDER BY 1`, func(r []string) {
		d.line("CREATE TYPE " + quote(r[0]) + " AS ENUM (" + r[1] + ");")
	})
}

// sequences that no identity column brings along. A table's own is dumped with
// the table.
func (d *dump) sequences() error {
	return d.each(
		`SELECT coalesce(t.relname, c.relname), c.relname, format_type(s.seqtypid, NULL), s.seqstart, s.seqincrement, s.seqmin, s.seqmax, s.seqcache, s.seqcycle
		FROM pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		LEFT JOIN pg_depend d ON d.objid = c.oid AND d.deptype IN ('a', 'i') AND d.classid = 'pg_class'::regclass LEFT JOIN pg_class t ON t.oid = d.refobjid
		WHERE`+here+`AND d.deptype IS DISTINCT FROM 'i' ORDER BY c.relname`,
		func(r []string) {
			cycle := ""
			if r[8] == "t" {
				cycle = " CYCLE"
			}
			d.line(fmt.Sprintf("CREATE SEQUENCE %s AS %s START %s INCREMENT %s MINVALUE %s MAXVALUE %s CACHE %s%s;", quote(r[1]),
				r[2], r[3], r[4], r[5], r[6], r[7], cycle))
		},
	)
}

func (d *dump) functions() error {
	return d.each(`SELECT p.proname, pg_get_functiondef(p.oid) FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace
		WHERE`+here+`AND p.prokind IN ('f', 'p')`+fmt.Sprintf(notOfExtension, "p.oid")+`ORDER BY p.oid`, func(r []string) {
		d.line(strings.TrimRight(r[1], "\n") + ";")
	})
}

func (d *dump) tables() error {
	return d.each(`SELECT c.relname, string_agg(quote_ident(a.attname) || ' ' || format_type(a.atttypid, a.atttypmod)
			|| CASE WHEN a.attcollation <> t.typcollation AND a.attcollation <> 0 THEN ' COLLATE ' || quote_ident(l.collname) ELSE '' END
			|| CASE a.attidentity WHEN 'a' THEN ' GENERATED ALWAYS AS IDENTITY' WHEN 'd' THEN ' GENERATED BY DEFAULT AS IDENTITY' ELSE '' END
			|| CASE WHEN f.adbin IS NULL THEN '' WHEN a.attgenerated = 's' THEN ' GENERATED ALWAYS AS (' || pg_get_expr(f.adbin, f.adrelid) || ') STORED' ELSE ' DEFAULT ' || pg_get_expr(f.adbin, f.adrelid) END
			|| CASE WHEN a.attnotnull THEN ' NOT NULL' ELSE '' END, E',\n  ' ORDER BY a.attnum)
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped
		JOIN pg_type t ON t.oid = a.atttypid LEFT JOIN pg_collation l ON l.oid = a.attcollation LEFT JOIN pg_attrdef f ON f.adrelid = c.oid AND f.adnum = a.attnum
		WHERE`+here+`AND c.relkind = 'r'`+fmt.Sprintf(notOfExtension, "c.oid")+`GROUP BY c.oid, c.relname ORDER BY c.oid`, func(r []string) {
		d.line("CREATE TABLE " + quote(r[0]) + " (\n  " + r[1] + "\n);")
	})
}

// rows copies what the tables hold, as it comes.
func (d *dump) rows() error {
	var tables [][]string
	err := d.each(
		`SELECT c.relname, string_agg(quote_ident(a.attname), ', ' ORDER BY a.attnum) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''
		WHERE`+here+`AND c.relkind = 'r'`+fmt.Sprintf(
			notOfExtension,
			"c.oid",
		)+`GROUP BY c.oid, c.relname ORDER BY c.oid`,
		func(r []string) { tables = append(tables, r) },
	)
	for _, t := range tables {
		if err != nil {
			break
		}
		d.line("COPY " + quote(t[0]) + " (" + t[1] + ") FROM stdin;")
		_, err = d.conn.PgConn().CopyTo(d.ctx, d.out, "COPY "+quote(t[0])+" ("+t[1]+") TO STDOUT")
		d.line(`\.`)
	}
	return err
}

// counters puts sequences to where they stand, and ties them to their columns.
func (d *dump) counters() error {
	var all [][]string
	err := d.each(
		`SELECT coalesce(t.relname, c.relname), c.relname, coalesce(t.relname, ''), coalesce(a.attname, ''), coalesce(d.deptype::text, '')
		FROM pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		LEFT JOIN pg_depend d ON d.objid = c.oid AND d.deptype IN ('a', 'i') AND d.classid = 'pg_class'::regclass
		LEFT JOIN pg_class t ON t.oid = d.refobjid LEFT JOIN pg_attribute a ON a.attrelid = t.oid AND a.attnum = d.refobjsubid
		WHERE`+here+`ORDER BY c.relname`,
		func(r []string) { all = append(all, r) },
	)
	if err != nil {
		return err
	}
	for _, r := range all {
		var last, called string
		if err := d.conn.QueryRow(d.ctx, "SELECT last_value::text, is_called::text FROM "+quote(r[1])).Scan(&last,
			&called); err != nil {
			return err
		}
		sequence := literal(quote(r[1]))
		if r[4] == "i" { // whose name the new table may choose otherwise
			sequence = "pg_get_serial_sequence(" + literal(quote(r[2])) + ", " + literal(r[3]) + ")"
		} else if r[2] != "" {
			d.line("ALTER SEQUENCE " + quote(r[1]) + " OWNED BY " + quote(r[2]) + "." + quote(r[3]) + ";")
		}
		d.line("SELECT setval(" + sequence + ", " + last + ", " + called + ");")
	}
	return nil
}

// constraints: keys to other tables come last, when those have theirs.
func (d *dump) constraints() error {
	return d.each(
		`SELECT c.relname, k.conname, pg_get_constraintdef(k.oid) FROM pg_constraint k JOIN pg_class c ON c.oid = k.conrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE`+here+`AND c.relkind = 'r' AND k.contype IN ('p', 'u', 'c', 'x', 'f')`+fmt.Sprintf(
			notOfExtension,
			"c.oid",
		)+`ORDER BY k.contype = 'f', k.oid`,
		func(r []string) {
			d.line("ALTER TABLE " + quote(r[0]) + " ADD CONSTRAINT " + quote(r[1]) + " " + r[2] + ";")
		},
	)
}

func (d *dump) indexes() error {
	return d.each(
		`SELECT t.relname, pg_get_indexdef(i.indexrelid) FROM pg_index i JOIN pg_class t ON t.oid = i.indrelid JOIN pg_namespace n ON n.oid = t.relnamespace
		WHERE`+here+`AND t.relkind = 'r' AND NOT EXISTS (SELECT 1 FROM pg_constraint k WHERE k.conindid = i.indexrelid AND k.contype IN ('p', 'u', 'x'))
		`+fmt.Sprintf(
			notOfExtension,
			"t.oid",
		)+`ORDER BY i.indexrelid`,
		func(r []string) { d.line(r[1] + ";") },
	)
}

func (d *dump) views() error {
	return d.each(
		`SELECT c.relname, c.relkind, pg_get_viewdef(c.oid) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE`+here+`AND c.relkind IN ('v', 'm')`+fmt.Sprintf(notOfExtension, "c.oid")+`ORDER BY c.oid`,
		func(r []string) {
			kind := "VIEW"
			if r[1] == "m" {
				kind = "MATERIALIZED VIEW"
			}
			d.line("CREATE " + kind + " " + quote(r[0]) + " AS " + r[2])
		},
	)
}

// rules are what happens in the place of a change, or besides (PostgreSQL manual, "The
// Rule System"); those that make views are the views'.
func (d *dump) rules() error {
	return d.each(
		`SELECT c.relname, pg_get_ruledef(r.oid) FROM pg_rewrite r JOIN pg_class c ON c.oid = r.ev_class JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE`+here+`AND r.rulename <> '_RETURN'`+fmt.Sprintf(
			notOfExtension,
			"c.oid",
		)+`ORDER BY r.oid`,
		func(r []string) { d.line(r[1]) },
	)
}

func (d *dump) triggers() error {
	return d.each(
		`SELECT c.relname, pg_get_triggerdef(t.oid) FROM pg_trigger t JOIN pg_class c ON c.oid = t.tgrelid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE`+here+`AND NOT t.tgisinternal ORDER BY t.oid`,
		func(r []string) { d.line(r[1] + ";") },
	)
}

// Empty implements database.Session.
func (s *Session) Empty(ctx context.Context, only func(string) bool) error {
	if only == nil {
		only = func(string) bool { return true }
	}
	var drops []string
	err := s.use(ctx, replyTime, func(ctx context.Context, c *pgx.Conn) error {
		d := &dump{ctx: ctx, conn: c, only: only}
		for _, query := range []string{
			`SELECT coalesce(t.relname, c.relname), CASE c.relkind WHEN 'v' THEN 'VIEW' WHEN 'm' THEN 'MATERIALIZED VIEW' WHEN 'S' THEN 'SEQUENCE' ELSE 'TABLE' END, quote_ident(c.relname)
				FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
				LEFT JOIN pg_depend d ON c.relkind = 'S' AND d.objid = c.oid AND d.deptype IN ('a', 'i') AND d.classid = 'pg_class'::regclass LEFT JOIN pg_class t ON t.oid = d.refobjid
				WHERE` + here + `AND c.relkind IN ('r', 'p', 'v', 'm', 'S') AND d.deptype IS DISTINCT FROM 'i'` + fmt.Sprintf(notOfExtension, "c.oid") + `ORDER BY c.relkind <> 'v', c.relkind = 'S', c.oid`,
			`SELECT p.proname, CASE p.prokind WHEN 'p' THEN 'PROCEDURE' ELSE 'FUNCTION' END, quote_ident(p.proname) || '(' || pg_get_function_identity_arguments(p.oid) || ')'
				FROM pg_proc p JOIN pg_namespace n ON n.oid = p.pronamespace WHERE` + here + `AND p.prokind IN ('f', 'p')` + fmt.Sprintf(notOfExtension, "p.oid") + `ORDER BY p.oid`,
			`SELECT t.typname, 'TYPE', quote_ident(t.typname) FROM pg_type t JOIN pg_namespace n ON n.oid = t.typnamespace LEFT JOIN pg_class c ON c.oid = t.typrelid
				WHERE` + here + `AND (t.typtype = 'e' OR t.typtype = 'c' AND c.relkind = 'c')` + fmt.Sprintf(notOfExtension, "t.oid") + `ORDER BY t.oid`,
		} {
			if err := d.each(query, func(r []string) {
				drops = append(drops, "DROP "+r[1]+" IF EXISTS "+r[2]+" CASCADE")
			}); err != nil {
				return err
			}
		}
		return nil
	})
	for _, statement := range drops {
		if err != nil {
			break
		}
		err = s.exec(ctx, replyTime, statement)
	}
	return err
}
