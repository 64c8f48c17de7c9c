package mysqld

import (
	"slices"
	"strings"
)

// translate makes SQLite's SQL of a statement: usually one, for a table with
// keys several.
func translate(t []token) ([]string, error) {
	switch {
	case begins(t, "create", "table"):
		return createTable(t[2:])
	case begins(t, "start", "transaction"):
		return []string{"BEGIN"}, nil
	case begins(t, "truncate"):
		return []string{"DELETE FROM " + t[len(t)-1].sql()}, nil
	case begins(t, "insert", "ignore"):
		t = append([]token{{'w', "INSERT OR IGNORE"}}, t[2:]...)
	case !t[0].any("select", "insert", "replace", "update", "delete", "alter", "drop", "begin", "commit", "rollback"):
		return nil, syntax(t)
	}
	t = functions(t)
	if t[0].any("insert") {
		t = onDuplicate(t)
	}
	return []string{join(t)}, nil
}

// functions replaces functions that SQLite calls by other names.
func functions(t []token) []token {
	names := map[string]string{"now": "datetime('now')", "current_timestamp": "datetime('now')",
		"unix_timestamp": "unixepoch()", "last_insert_id": "last_insert_rowid()"}
	var out []token
	for i := 0; i < len(t); i++ {
		if t[i].kind == 'w' && i+2 < len(t) && t[i+1].is("(") && t[i+2].is(")") {
			if as, ok := names[strings.ToLower(t[i].text)]; ok {
				out = append(out, token{'w', as})
				i += 2
				continue
			}
		}
		out = append(out, t[i])
	}
	return out
}

// onDuplicate writes ON DUPLICATE KEY UPDATE c = VALUES(c) in SQLite's way.
func onDuplicate(t []token) []token {
	at := -1
	for i := range t {
		if begins(t[i:], "on", "duplicate", "key", "update") {
			at = i
		}
	}
	if at < 0 {
		return t
	}
	out := append(slices.Clone(t[:at]), token{'w', "ON CONFLICT DO UPDATE SET"})
	for i := at + 4; i < len(t); i++ {
		if begins(t[i:], "values", "(") && i+3 < len(t) && t[i+3].is(")") {
			out = append(out, token{'w', "excluded." + t[i+2].sql()})
			i += 3
			continue
		}
		out = append(out, t[i])
	}
	return out
}

// createTable translates a table: types, auto_increment, keys and options.
func createTable(t []token) ([]string, error) {
	head := "CREATE TABLE "
	if begins(t, "if", "not", "exists") {
		head, t = head+"IF NOT EXISTS ", t[3:]
	}
	if len(t) < 4 || !t[1].is("(") {
		return nil, syntax(t)
	}
	name := t[0].sql()
	parts, rest, ok := definitions(t[2:])
	if !ok {
		return nil, syntax(t)
	}
	if err := tableOptions(rest); err != nil {
		return nil, err
	}
	c := &tableMaker{name: name}
	for _, p := range parts {
		if err := c.part(p); err != nil {
			return nil, err
		}
	}
	return append([]string{head + name + " (" + strings.Join(c.columns, ", ") + ")"}, c.indexes...), nil
}

// definitions splits what stands in the parentheses at its outer commas.
func definitions(t []token) (parts [][]token, rest []token, ok bool) {
	depth, start := 0, 0
	for i, x := range t {
		switch {
		case x.is("("):
			depth++
		case x.is(")") && depth > 0:
			depth--
		case x.is(")"):
			return append(parts, t[start:i]), t[i+1:], true
		case x.is(",") && depth == 0:
			parts = append(parts, t[start:i])
			start = i + 1
		}
	}
	return nil, nil, false
}

// tableOptions accepts the options that mean nothing here.
func tableOptions(t []token) error {
	for i := 0; i < len(t); i++ {
		switch {
		case t[i].any("engine", "charset", "collate", "comment", "auto_increment", "row_format"):
			i += 2 // name = value
			if i >= len(t) {
				return syntax(t)
			}
		case t[i].any("default", "character", "set", ","):
		default:
			return syntax(t[i:])
		}
	}
	return nil
}

type tableMaker struct {
	name    string
	columns []string
	indexes []string
	counts  bool // a column counts up and is the primary key
}

func (c *tableMaker) part(t []token) error {
	switch {
	case len(t) == 0:
		return refuse(1064, "42000", "an empty column definition")
	case begins(t, "primary", "key"):
		if !c.counts {
			c.columns = append(c.columns, "PRIMARY KEY "+join(t[2:]))
		}
	case begins(t, "unique", "key"):
		c.columns = append(c.columns, "UNIQUE "+join(t[3:]))
	case begins(t, "unique", "("):
		c.columns = append(c.columns, join(t))
	case t[0].any("key", "index") && len(t) > 2:
		// Names of indexes are the table's own here and the database's there.
		index := `"` + strings.Trim(c.name, `"`) + "_" + t[1].name() + `"`
		c.indexes = append(c.indexes, "CREATE INDEX "+index+" ON "+c.name+" "+join(t[2:]))
	case t[0].any("constraint", "foreign", "check"):
		c.columns = append(c.columns, join(t))
	default:
		c.column(t)
	}
	return nil
}

func (c *tableMaker) column(t []token) {
	counts := slices.ContainsFunc(t, func(x token) bool { return x.is("auto_increment") })
	if counts {
		c.counts = true
		c.columns = append(c.columns, t[0].sql()+" INTEGER PRIMARY KEY AUTOINCREMENT")
		return
	}
	out := []string{t[0].sql()}
	letters := false
	for i := 1; i < len(t); i++ {
		switch {
		case t[i].is("unsigned"):
		case t[i].is("comment") && i+1 < len(t), t[i].is("collate") && i+1 < len(t):
			i++
		case begins(t[i:], "character", "set") && i+2 < len(t):
			i += 2
		case t[i].any("current_timestamp") && i+2 < len(t) && t[i+1].is("("):
			out = append(out, "CURRENT_TIMESTAMP")
			i += 2
		default:
			letters = letters || i == 1 && t[i].any("varchar", "char", "text", "mediumtext", "longtext", "tinytext")
			out = append(out, t[i].sql())
		}
	}
	if letters { // the usual collations do not tell cases apart
		out = append(out, "COLLATE NOCASE")
	}
	c.columns = append(c.columns, strings.Join(out, " "))
}
