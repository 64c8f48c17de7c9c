package mysqld

import (
	"regexp"
	"strings"
)

// describe answers the questions that a dump asks about tables.
func (s *session) describe(t []token) (*result, error) {
	if s.db == nil {
		return nil, refuse(1046, "3D000", "No database selected")
	}
	switch {
	case begins(t, "full", "tables") && len(t) == 2:
		r := &result{columns: []string{"Tables_in_" + s.database, "Table_type"}}
		for _, name := range s.tables(s.database) {
			r.rows = append(r.rows, []any{name, "BASE TABLE"})
		}
		return r, nil
	case begins(t, "full", "columns", "from") && len(t) == 4:
		return s.describeColumns(t[3].name())
	case begins(t, "create", "table") && len(t) == 3:
		return s.madeBy(t[2].name())
	case begins(t, "triggers"):
		return &result{columns: []string{"Trigger", "Event", "Table"}}, nil
	case begins(t, "events"), begins(t, "procedure", "status"), begins(t, "function", "status"):
		return &result{columns: []string{"Db", "Name"}}, nil // there are none
	}
	return nil, syntax(t)
}

func (s *session) describeColumns(table string) (*result, error) {
	found, err := fetch(s.db, "SELECT name, type FROM pragma_table_info('"+strings.ReplaceAll(table, "'", "''")+
		"') ORDER BY cid")
	if err != nil {
		return nil, err
	}
	if len(found.rows) == 0 {
		return nil, refuse(1146, "42S02", "Table '%s.%s' doesn't exist", s.database, table)
	}
	r := &result{columns: []string{"Field", "Type", "Collation", "Null", "Key", "Default", "Extra"}}
	for _, row := range found.rows {
		r.rows = append(r.rows, []any{row[0], row[1], nil, "", "", nil, ""})
	}
	return r, nil
}

var (
	countsUp = regexp.MustCompile(`(?i)\bINTEGER PRIMARY KEY AUTOINCREMENT\b`)
	indexOn  = regexp.MustCompile(`(?s)^CREATE INDEX "(.*?)" ON .*?(\(.*\))$`)
)

// madeBy writes the statement that makes a table as it is now, as this server
// reads it.
func (s *session) madeBy(table string) (*result, error) {
	quoted := "'" + strings.ReplaceAll(table, "'", "''") + "'"
	found, err := fetch(s.db, "SELECT type, sql FROM sqlite_master WHERE tbl_name = "+quoted+
		" AND sql IS NOT NULL ORDER BY type = 'index', rowid")
	if err != nil {
		return nil, err
	}
	if len(found.rows) == 0 {
		return nil, refuse(1146, "42S02", "Table '%s.%s' doesn't exist", s.database, table)
	}
	_, columns, _ := strings.Cut(text(found.rows[0][1]), "(")
	columns = countsUp.ReplaceAllString(strings.TrimSuffix(columns, ")"), "INT NOT NULL PRIMARY KEY AUTO_INCREMENT")
	columns = strings.ReplaceAll(columns, `"`, "`")
	for _, row := range found.rows[1:] {
		if m := indexOn.FindStringSubmatch(text(row[1])); m != nil {
			name := strings.TrimPrefix(m[1], table+"_")
			columns += ", KEY `" + name + "` " + strings.ReplaceAll(m[2], `"`, "`")
		}
	}
	return &result{[]string{"Table", "Create Table"},
		[][]any{{table, "CREATE TABLE `" + table + "` (" + columns + ") DEFAULT CHARSET=utf8mb4"}}}, nil
}
