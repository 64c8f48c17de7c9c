package mysqld

import (
	"bytes"
	"context"
	"crypto/sha1"
	"crypto/subtle"
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"regexp"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver
)

// store keeps the users, databases and grants.
type store struct{ db *sql.DB }

// account is a user that has signed in.
type account struct {
	name, host string
	all        bool // may do everything
}

const storeTables = `
CREATE TABLE IF NOT EXISTS users (user TEXT, host TEXT, hash BLOB, PRIMARY KEY (user, host));
CREATE TABLE IF NOT EXISTS bases (name TEXT PRIMARY KEY);
CREATE TABLE IF NOT EXISTS grants (user TEXT, host TEXT, pattern TEXT, PRIMARY KEY (user, host, pattern));`

func openSQLite(file string) (*sql.DB, error) {
	db, err := sql.Open("sqlite", "file:"+url.PathEscape(file)+"?_pragma=busy_timeout(10000)&_pragma=synchronous(off)")
	if err == nil {
		db.SetMaxOpenConns(1)
	}
	return db, err
}

func openStore(file, rootPassword string) (*store, error) {
	db, err := openSQLite(file)
	if err != nil {
		return nil, err
	}
	s := &store{db}
	if _, err := db.Exec(storeTables); err != nil {
		db.Close()
		return nil, fmt.Errorf("open the server's own tables: %w", err)
	}
	for _, host := range []string{"localhost", "127.0.0.1"} {
		if _, err := db.Exec("INSERT OR REPLACE INTO users VALUES ('root', ?, ?)", host, hash(rootPassword)); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func (s *store) close() error { return s.db.Close() }

// hash is how mysql_native_password keeps a password: SHA1(SHA1(password)).
func hash(password string) []byte {
	first := sha1.Sum([]byte(password))
	second := sha1.Sum(first[:])
	return second[:]
}

// signIn checks a client's proof, SHA1(password) XOR SHA1(scramble + hash).
func (s *store) signIn(name, host string, scramble, proof []byte) (account, bool) {
	rows, err := s.db.Query("SELECT host, hash FROM users WHERE user = ? AND host IN (?, 'localhost', '%') ORDER BY "+
		"host = ? DESC", name, host, host)
	if err != nil {
		return account{}, false
	}
	defer rows.Close()
	for rows.Next() {
		var from string
		var stored []byte
		if rows.Scan(&from, &stored) != nil {
			continue
		}
		if proves(scramble, proof, stored) {
			return account{name, from, name == "root"}, true
		}
	}
	return account{}, false
}

func proves(scramble, proof, stored []byte) bool {
	if len(proof) == 0 {
		return bytes.Equal(stored, hash(""))
	}
	if len(proof) != sha1.Size {
		return false
	}
	mask := sha1.Sum(append(append([]byte{}, scramble...), stored...))
	first := make([]byte, sha1.Size)
	for i := range first {
		first[i] = proof[i] ^ mask[i]
	}
	again := sha1.Sum(first)
	return subtle.ConstantTimeCompare(again[:], stored) == 1
}

func (s *store) hasDatabase(name string) bool {
	var n int
	return s.db.QueryRow("SELECT count(*) FROM bases WHERE name = ?", name).Scan(&n) == nil && n == 1
}

// may says whether a user has rights on a database. Patterns are those of
// GRANT: % and _ stand for any characters unless a backslash precedes them.
func (s *store) may(a account, database string) bool {
	if a.all {
		return true
	}
	rows, err := s.db.Query("SELECT pattern FROM grants WHERE user = ? AND host = ?", a.name, a.host)
	if err != nil {
		return false
	}
	defer rows.Close()
	for rows.Next() {
		var pattern string
		if rows.Scan(&pattern) == nil && matches(pattern, database) {
			return true
		}
	}
	return false
}

func matches(pattern, name string) bool {
	var re strings.Builder
	for i := 0; i < len(pattern); i++ {
		switch c := pattern[i]; {
		case c == '\\' && i+1 < len(pattern):
			i++
			re.WriteString(regexp.QuoteMeta(pattern[i : i+1]))
		case c == '%':
			re.WriteString(".*")
		case c == '_':
			re.WriteString(".")
		default:
			re.WriteString(regexp.QuoteMeta(string(c)))
		}
	}
	ok, err := regexp.MatchString("^"+re.String()+"$", name)
	return err == nil && ok
}

// catalogue is a throw-away database with what the system schemas show to a
// user, to run queries on.
func (s *store) catalogue(a account, tables func(database string) []string, size func(database string) int64) (*sql.DB,
	error) {
	db, err := sql.Open("sqlite", ":memory:")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	ctx := context.Background()
	for _, statement := range []string{
		"ATTACH ':memory:' AS information_schema", "ATTACH ':memory:' AS mysql",
		"CREATE TABLE information_schema.schemata (schema_name TEXT)",
		"CREATE TABLE information_schema.tables (table_schema TEXT, table_name TEXT, data_length INTEGER, index_length " +
			"INTEGER)",
		"CREATE TABLE mysql.user (user TEXT, host TEXT)",
		"CREATE TABLE mysql.db (user TEXT, host TEXT, db TEXT)",
		"INSERT INTO information_schema.schemata VALUES ('information_schema'), ('mysql')",
	} {
		if _, err := db.ExecContext(ctx, statement); err != nil {
			db.Close()
			return nil, err
		}
	}
	return db, s.fillCatalogue(ctx, db, a, tables, size)
}

func (s *store) fillCatalogue(ctx context.Context, db *sql.DB, a account, tables func(string) []string,
	size func(string) int64) error {
	bases, err := fetch(s.db, "SELECT name FROM bases")
	if err != nil {
		return err
	}
	for _, row := range bases.rows {
		name := text(row[0])
		if !s.may(a, name) {
			continue
		}
		if _, err := db.ExecContext(ctx, "INSERT INTO information_schema.schemata VALUES (?)", name); err != nil {
			return err
		}
		all := tables(name)
		for _, t := range all { // the file's size is told as if all tables were alike
			if _, err := db.ExecContext(ctx, "INSERT INTO information_schema.tables VALUES (?, ?, ?, 0)", name, t,
				size(name)/int64(len(all))); err != nil {
				return err
			}
		}
	}
	if !a.all {
		return nil
	}
	for query, insert := range map[string]string{
		"SELECT user, host FROM users":           "INSERT INTO mysql.user VALUES (?, ?)",
		"SELECT user, host, pattern FROM grants": "INSERT INTO mysql.db VALUES (?, ?, ?)",
	} {
		found, err := fetch(s.db, query)
		if err != nil {
			return err
		}
		for _, row := range found.rows {
			if _, err := db.ExecContext(ctx, insert, row...); err != nil {
				return err
			}
		}
	}
	return nil
}

// fetch runs a query and takes in all of its rows.
func fetch(db *sql.DB, query string) (*result, error) {
	rows, err := db.Query(query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	r := &result{}
	if r.columns, err = rows.Columns(); err != nil {
		return nil, err
	}
	types, err := rows.ColumnTypes()
	if err != nil {
		return nil, err
	}
	for rows.Next() {
		row := make([]any, len(r.columns))
		into := make([]any, len(row))
		for i := range row {
			into[i] = &row[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		for i, v := range row {
			if at, ok := v.(time.Time); ok {
				row[i] = moment(at, types[i].DatabaseTypeName())
			}
		}
		r.rows = append(r.rows, row)
	}
	return r, rows.Err()
}

// moment writes a time as the protocol does: 2026-10-19 20:11:00.
func moment(at time.Time, column string) string {
	if strings.EqualFold(column, "DATE") {
		return at.Format(time.DateOnly)
	}
	return at.Format(time.DateTime)
}

func removeFiles(name string) error {
	for _, end := range []string{"", "-wal", "-shm", "-journal"} {
		if err := os.Remove(name + end); err != nil && !os.IsNotExist(err) {
			return err
		}
	}
	return nil
}
