package pages

import (
	"database/sql"
	"io"
	"log"
	"net"
	"net/http"
	"strings"

	"github.com/go-sql-driver/mysql"
)

// Database is a page's connection to a database server, over the real
// protocol, with what the app's configuration says.
type Database struct {
	db *sql.DB
	p  *running
}

// database connects. A server's name in a configuration, such as localhost, is
// the real address that the options give for it.
func (p *running) database(server, port, name, user, password string) (*Database, error) {
	c := mysql.NewConfig()
	c.Net, c.User, c.Passwd, c.DBName = "tcp", user, password, name
	c.Addr = server
	if port != "" && !strings.Contains(server, ":") {
		c.Addr = net.JoinHostPort(server, port)
	}
	if real, ok := p.server.options.Database[server]; ok {
		c.Addr = real
	}
	c.InterpolateParams = true
	c.Logger = log.New(io.Discard, "", 0)
	connector, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(1)
	if err := db.Ping(); err != nil {
		db.Close()
		return nil, &stop{status: http.StatusInternalServerError, text: "The database does not answer."}
	}
	d := &Database{db, p}
	p.open = append(p.open, d)
	return d, nil
}

// Query gives the rows of a query, each by column name.
func (d *Database) Query(query string, args ...any) ([]map[string]string, error) {
	rows, err := d.db.Query(query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	var out []map[string]string
	for rows.Next() {
		values := make([]sql.NullString, len(columns))
		into := make([]any, len(columns))
		for i := range values {
			into[i] = &values[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		row := map[string]string{}
		for i, c := range columns {
			row[c] = values[i].String
		}
		out = append(out, row)
	}
	return out, rows.Err()
}

// One gives the first row of a query, or an empty one.
func (d *Database) One(query string, args ...any) (map[string]string, error) {
	rows, err := d.Query(query, args...)
	if err != nil || len(rows) == 0 {
		return map[string]string{}, err
	}
	return rows[0], nil
}

// Exec runs a statement and shows nothing.
func (d *Database) Exec(statement string, args ...any) (string, error) {
	_, err := d.db.Exec(statement, args...)
	return "", err
}

// Script runs an SQL file of the app, its table prefix replaced. The demo
// apps' files have one statement a semicolon at a line's end.
func (d *Database) Script(name, from, to string) (string, error) {
	text, err := d.p.script(name)
	if err != nil {
		return "", err
	}
	for _, statement := range strings.Split(strings.ReplaceAll(text, from, to), ";\n") {
		if strings.TrimSpace(statement) == "" {
			continue
		}
		if _, err := d.db.Exec(statement); err != nil {
			return "", err
		}
	}
	return "", nil
}
