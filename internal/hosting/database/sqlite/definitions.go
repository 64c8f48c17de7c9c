package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
)

// definition is a table, index, view or trigger as the schema has it.
type definition struct {
	kind, name, table, sql string
}

// definitions are those of a database, as they can be written down: each is one that SQLite understands whole, worded
// as SQLite words it again. What stands in a schema is text that whoever can write into the file chooses; one that
// leaves a comment open would have the rows below it be read as statements.
func (s *Session) definitions(ctx context.Context) (out []definition, err error) {
	rows, err := s.rows(ctx, "SELECT type, name, tbl_name, coalesce(sql, '') FROM sqlite_master WHERE name NOT LIKE "+
		"'sqlite\\_%' ESCAPE '\\' ORDER BY rowid")
	if err != nil {
		return nil, notDumped("the schema", err)
	}
	shadows, err := s.rows(ctx, "SELECT name FROM pragma_table_list WHERE type = 'shadow' AND schema = 'main'")
	if err != nil {
		return nil, notDumped("the schema", err)
	}
	made := map[string]bool{} // by the module of a virtual table, and again when that is made anew
	for _, row := range shadows {
		made[row[0]] = true
	}
	into, err := empty(ctx)
	if err != nil {
		return nil, err
	}
	defer into.Close()
	for _, kind := range []string{"table", "index", "view", "trigger"} {
		for _, row := range rows {
			d := definition{row[0], row[1], row[2], row[3]}
			if d.kind != kind || made[d.name] || d.sql == "" { // the indexes of keys have no definition
				continue
			}
			if d.sql, err = d.whole(ctx, into); err != nil {
				return nil, notDumped(d.kind+" "+d.name, err)
			}
			out = append(out, d)
		}
	}
	return out, nil
}

// whole makes a definition in a database that has nothing but those before it, and gives it as it stands there.
func (d definition) whole(ctx context.Context, into *sql.DB) (text string, err error) {
	if _, err := into.ExecContext(ctx, d.sql); err != nil {
		return "", err
	}
	err = into.QueryRowContext(ctx, "SELECT sql FROM sqlite_master WHERE type = ? AND name = ? AND tbl_name = ?", d.kind,
		d.name, d.table).Scan(&text)
	if errors.Is(err, sql.ErrNoRows) {
		return "", errors.New("its definition makes something else")
	}
	if err != nil {
		return "", err
	}
	found := 0
	err = database.Statements(strings.NewReader(text+";\n"), database.SQLite.Syntax, database.ScriptOptions{},
		func(database.Statement) error {
			found++
			return nil
		})
	if err == nil && found != 1 {
		err = fmt.Errorf("its definition is %d statements", found)
	}
	return text, err
}

// notDumped is the fault of something in a database that cannot be carried.
func notDumped(what string, err error) error {
	return fault.New(fault.Failed, "the database has something that is not dumped: "+what, "",
		"Somebody may have put it there. Look at the database; what the app does not need can be dropped.").Wrap(err)
}
