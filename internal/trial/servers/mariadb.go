package servers

import (
	"crypto/x509"
	"database/sql"
	"io"
	"log"
	"os"
	"path/filepath"
	"strconv"

	"github.com/go-sql-driver/mysql"
)

// Database is a running database server.
type Database struct {
	Engine   string
	Address  string // host:port
	Socket   string
	User     string // who may create
	Password string
	Roots    *x509.CertPool // that signed its certificate, which is for 127.0.0.1
}

// MariaDB gives a private MariaDB in which nobody has made anything: one that a
// test before has let go, emptied, or a new one.
func MariaDB(t Stage) Database {
	t.Helper()
	return mariadbs.take(t, startMariaDB, Database.emptyMariaDB)
}

var mariadbs pool

// emptyMariaDB takes away what a test has left.
func (d Database) emptyMariaDB(t Stage) error {
	db := d.Open(t, "")
	defer db.Close()
	for query, drop := range map[string]string{
		"SELECT CONCAT('`', REPLACE(schema_name, '`', '``'), '`') FROM information_schema.schemata WHERE schema_name NOT " +
			"IN ('information_schema', 'performance_schema', 'sys', 'mysql')": "DROP DATABASE ",
		"SELECT CONCAT(QUOTE(user), '@', QUOTE(host)) FROM mysql.user " +
			"WHERE user NOT IN ('root', 'mariadb.sys', 'PUBLIC', '')": "DROP USER ",
	} {
		rows, err := db.Query(query)
		if err != nil {
			return err
		}
		var names []string
		for rows.Next() {
			var name string
			if err := rows.Scan(&name); err != nil {
				return err
			}
			names = append(names, name)
		}
		if err := rows.Err(); err != nil {
			return err
		}
		for _, name := range names {
			if _, err := db.Exec(drop + name); err != nil {
				return err
			}
		}
	}
	return nil
}

// startMariaDB starts a MariaDB that lasts as long as the process.
func startMariaDB(t Stage) Database {
	t.Helper()
	paths := Need(t, "mariadbd", "mariadb-install-db")
	dir := lastingFolder(t)
	data, port := filepath.Join(dir, "data"), FreePort(t)
	d := Database{Engine: "mariadb", Address: loopback(port), Socket: filepath.Join(dir, "s"), User: "root",
		Password: "a root's password, with '\" in it"}
	// Each has its temporary tables to itself: two in one folder take each other's away.
	own := []string{"--no-defaults", "--tmpdir=" + dir}
	if os.Geteuid() == 0 {
		own = append(own, "--user=root")
	}
	copied(t, data, paths[1], "", func(folder string) {
		run(t, paths[1], append(own, "--datadir="+folder, "--auth-root-authentication-method=normal", "--skip-test-db",
			"--skip-name-resolve")...)
	})
	// One statement a line, as an init file wants it.
	var first string
	for _, host := range []string{"localhost", "127.0.0.1"} {
		first += "CREATE OR REPLACE USER 'root'@'" + host + "' IDENTIFIED BY 'a root\\'s password, with \\'\" in it';\n" +
			"GRANT ALL PRIVILEGES ON *.* TO 'root'@'" + host + "' WITH GRANT OPTION;\n"
	}
	file := filepath.Join(dir, "first.sql")
	if err := os.WriteFile(file, []byte(first), 0o600); err != nil {
		t.Fatal(err)
	}
	d.Roots = certificate(t, dir, FTPOptions{})
	_ = mysql.SetLogger(log.New(io.Discard, "", 0))
	last(t, dir, paths[0], append(own, "--datadir="+data, "--bind-address=127.0.0.1", "--port="+strconv.Itoa(port),
		"--socket="+d.Socket, "--ssl-cert="+filepath.Join(dir, "cert.pem"), "--ssl-key="+filepath.Join(dir, "key.pem"),
		"--pid-file="+filepath.Join(dir, "pid"), "--skip-name-resolve", "--innodb-flush-log-at-trx-commit=2", "--init-file="+
			file)...)
	await(t, "MariaDB", func() error {
		db := d.Open(t, "")
		defer db.Close()
		return db.Ping()
	})
	return d
}

// Open connects as the one who may create.
func (d Database) Open(t Stage, database string) *sql.DB {
	t.Helper()
	c := mysql.NewConfig()
	c.User, c.Passwd, c.Net, c.Addr, c.DBName = d.User, d.Password, "tcp", d.Address, database
	connector, err := mysql.NewConnector(c)
	if err != nil {
		t.Fatal(err)
	}
	return sql.OpenDB(connector)
}

// Catalogue lists the server's databases with their tables, users and grants,
// from its own tables: two equal lists mean that nothing has changed.
func (d Database) Catalogue(t Stage) []string {
	t.Helper()
	if d.Engine == "postgresql" {
		return d.postgresCatalogue(t)
	}
	db := d.Open(t, "")
	defer db.Close()
	var out []string
	for _, query := range []string{
		"SELECT CONCAT('database ', schema_name) FROM information_schema.schemata ORDER BY 1",
		"SELECT CONCAT('table ', table_schema, '.', table_name) FROM information_schema.tables WHERE table_schema NOT IN " +
			"('information_schema', 'performance_schema', 'sys', 'mysql') ORDER BY 1",
		"SELECT CONCAT('user ', user, '@', host) FROM mysql.user ORDER BY 1",
		"SELECT CONCAT('grant ', user, '@', host, ' ', db) FROM mysql.db ORDER BY 1",
	} {
		rows, err := db.Query(query)
		if err != nil {
			t.Fatal(err)
		}
		for rows.Next() {
			var line string
			if err := rows.Scan(&line); err != nil {
				t.Fatal(err)
			}
			out = append(out, line)
		}
		if err := rows.Err(); err != nil {
			t.Fatal(err)
		}
		rows.Close()
	}
	return out
}
