package servers

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"

	"github.com/jackc/pgx/v5"
)

// PostgreSQL gives a private PostgreSQL in which nobody has made anything: one
// that a test before has let go, emptied, or a new one.
func PostgreSQL(t Stage) Database {
	t.Helper()
	return postgresqls.take(t, startPostgreSQL, Database.emptyPostgreSQL)
}

var postgresqls pool

// emptyPostgreSQL takes away what a test has left.
func (d Database) emptyPostgreSQL(Stage) error {
	ctx := context.Background()
	c, err := d.postgres("postgres")
	if err != nil {
		return err
	}
	defer c.Close(ctx)
	for _, all := range [][2]string{
		{"SELECT quote_ident(datname) FROM pg_database WHERE datname NOT IN ('postgres', 'template0', 'template1')",
			"DROP DATABASE %s WITH (FORCE)"},
		{"SELECT quote_ident(rolname) FROM pg_roles WHERE rolname NOT LIKE 'pg\\_%' AND rolname <> current_user",
			"DROP OWNED BY %[1]s CASCADE; DROP ROLE %[1]s"},
	} {
		rows, err := c.Query(ctx, all[0])
		if err != nil {
			return err
		}
		names, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		for _, name := range names {
			if _, err := c.Exec(ctx, fmt.Sprintf(all[1], name)); err != nil {
				return err
			}
		}
	}
	return nil
}

// startPostgreSQL starts a PostgreSQL that lasts as long as the process. It
// refuses to run as root, so that then it runs as nobody.
func startPostgreSQL(t Stage) Database {
	t.Helper()
	programs := postgresPrograms(t)
	dir := lastingFolder(t)
	port := FreePort(t)
	d := Database{Engine: "postgresql", Address: loopback(port), Socket: filepath.Join(dir, ".s.PGSQL."+
		strconv.Itoa(port)), User: "chief", Password: `a chief's password, with "\ in it`}
	write(t, filepath.Join(dir, "password"), []byte(d.Password))
	as := func(program string, args ...string) (string, []string) { return program, args }
	if os.Geteuid() == 0 {
		nobody, err := user.Lookup("nobody")
		if err != nil {
			t.Fatal(err)
		}
		uid, _ := strconv.Atoi(nobody.Uid)
		gid, _ := strconv.Atoi(nobody.Gid)
		for _, name := range []string{dir, filepath.Join(dir, "password")} {
			if err := os.Chown(name, uid, gid); err != nil {
				t.Fatal(err)
			}
		}
		as = func(program string, args ...string) (string, []string) {
			return "setpriv", append([]string{"--reuid=" + nobody.Uid, "--regid=" + nobody.Gid, "--clear-groups", "--reset-env",
				program}, args...)
		}
	}
	data := filepath.Join(dir, "data")
	copied(t, data, programs["initdb"], d.User+d.Password, func(folder string) {
		// nobody may make no folder beside others
		inside := filepath.Join(dir, "made")
		program, args := as(programs["initdb"], "-D", inside, "-U", d.User, "-A", "scram-sha-256", "--pwfile="+
			filepath.Join(dir, "password"), "--no-sync", "-E", "UTF8", "--locale=C")
		run(t, program, args...)
		run(t, "mv", inside, folder)
	})
	encrypts := encrypting(t, dir)
	program, args := as(programs["postgres"], append([]string{"-D", data, "-h", "127.0.0.1", "-p", strconv.Itoa(port),
		"-k", dir, "-c", "fsync=off"}, encrypts...)...)
	last(t, dir, program, args...)
	await(t, "PostgreSQL", func() error {
		c, err := d.postgres("postgres")
		if err == nil {
			_ = c.Close(context.Background())
		}
		return err
	})
	return d
}

// encrypting has a PostgreSQL encrypt for clients that want it, with a certificate that no machine knows.
func encrypting(t Stage, dir string) []string {
	t.Helper()
	certificate(t, dir, FTPOptions{})
	key := filepath.Join(dir, "key.pem")
	if err := os.Chmod(key, 0o600); err != nil {
		t.Fatal(err)
	}
	if os.Geteuid() == 0 { // whose the folder is runs the server
		run(t, "chown", "--reference="+dir, key, filepath.Join(dir, "cert.pem"))
	}
	return []string{"-c", "ssl=on", "-c", "ssl_cert_file=" + filepath.Join(dir, "cert.pem"), "-c", "ssl_key_file=" + key}
}

// postgresPrograms finds the newest version that is installed.
func postgresPrograms(t Stage) map[string]string {
	t.Helper()
	Need(t)
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin")
	sort.Slice(found, func(i, j int) bool {
		return len(found[i]) < len(found[j]) || len(found[i]) == len(found[j]) && found[i] < found[j]
	})
	out := map[string]string{}
	for _, name := range []string{"initdb", "postgres"} {
		path, err := exec.LookPath(name)
		if len(found) > 0 {
			path, err = filepath.Join(found[len(found)-1], name), nil
		}
		if err != nil {
			Missing(t, "PostgreSQL is not installed; on Debian “make test” as root installs it")
		}
		out[name] = path
	}
	return out
}

func (d Database) postgres(database string) (*pgx.Conn, error) {
	config, err := pgx.ParseConfig(fmt.Sprintf("host=127.0.0.1 port=5432 sslmode=disable user=%s dbname=%s password=x "+
		"connect_timeout=5", d.User, database))
	if err != nil {
		return nil, err
	}
	_, err = fmt.Sscanf(d.Address, "127.0.0.1:%d", &config.Port)
	if err != nil {
		return nil, err
	}
	config.Password = d.Password
	return pgx.ConnectConfig(context.Background(), config)
}

// postgresCatalogue lists databases with their tables, and roles.
func (d Database) postgresCatalogue(t Stage) []string {
	t.Helper()
	list := func(database, query string) (out []string) {
		c, err := d.postgres(database)
		if err != nil {
			t.Fatal(err)
		}
		defer c.Close(context.Background())
		rows, err := c.Query(context.Background(), query)
		if err != nil {
			t.Fatal(err)
		}
		out, err = pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	names := list("postgres", "SELECT datname::text FROM pg_database WHERE datallowconn ORDER BY 1")
	out := list("postgres", "SELECT 'role ' || rolname FROM pg_roles ORDER BY 1")
	for _, name := range names {
		out = append(out, "database "+name)
		if name == "template1" {
			continue
		}
		for _, table := range list(name,
			"SELECT schemaname || '.' || tablename FROM pg_tables WHERE schemaname NOT IN ('pg_catalog', "+
				"'information_schema') ORDER BY 1") {
			out = append(out, "table "+name+"."+table)
		}
	}
	return out
}
