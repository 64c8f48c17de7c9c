package mariadb_test

import (
	"bytes"
	"context"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/databasetest"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/secret"
	"tivset/internal/standin/mysqld"
	"tivset/internal/trial/servers"
)

func host(login database.Login) databasetest.Host {
	return databasetest.Host{
		Engine: "mariadb", Admin: login,
		Connect: func(ctx context.Context, l database.Login) (database.Server, error) { return mariadb.Connect(ctx, l) },
		Open:    func(ctx context.Context, l database.Login) (database.Session, error) { return mariadb.Open(ctx, l) },
	}
}

func TestRealServer(t *testing.T) {
	d := servers.MariaDB(t)
	login := database.Login{Server: d.Address, User: d.User, Password: secret.Of(d.Password)}
	t.Run("tcp", func(t *testing.T) { databasetest.Run(t, host(login)) })
	login.Server = d.Socket
	t.Run("socket", func(t *testing.T) { databasetest.Run(t, host(login)) })
}

// The stand-in has no views or triggers, but what the demo's apps have.
func TestStandinDumps(t *testing.T) {
	s, err := mysqld.Start(t.TempDir(), "127.0.0.1:0", "pw")
	require.NoError(t, err)
	defer s.Close()
	ctx, login := context.Background(), database.Login{Server: s.Address(), User: "root", Password: secret.Of("pw")}
	server, err := mariadb.Connect(ctx, login)
	require.NoError(t, err)
	defer server.Close()
	require.NoError(t, server.CreateDatabase(ctx, "boats"))
	login.Database = "boats"
	session, err := mariadb.Open(ctx, login)
	require.NoError(t, err)
	defer session.Close()
	_, err = session.Run(ctx,
		strings.NewReader("CREATE TABLE `a` (id INT UNSIGNED NOT NULL AUTO_INCREMENT, `key` VARCHAR(20) NOT NULL DEFAULT "+
			"'x', at DATETIME NULL, PRIMARY KEY (id), UNIQUE KEY u (`key`), KEY k (at));\n"+
			"CREATE TABLE b (name VARCHAR(9) NOT NULL PRIMARY KEY, n INT);\nINSERT INTO a (`key`, at) VALUES ('it''s\\n\\\\ "+
			"\"é\"', '2026-11-23 08:00:00'), ('y', NULL);\n"+
			"INSERT INTO b VALUES ('one', 1);\nALTER TABLE b ADD COLUMN more INT;"), database.ScriptOptions{})
	require.NoError(t, err)
	var first, second strings.Builder
	require.NoError(t, session.Dump(ctx, &first, nil))
	require.NoError(t, session.Empty(ctx, nil))
	_, err = session.Run(ctx, strings.NewReader(first.String()), database.ScriptOptions{})
	require.NoError(t, err, first.String())
	require.NoError(t, session.Dump(ctx, &second, nil))
	require.Equal(t, first.String(), second.String())
	require.Contains(t, first.String(), "more")
	require.NoError(t, session.Exec(ctx, "INSERT INTO a (`key`) VALUES ('z')", nil))
	id, err := session.Value(ctx, "SELECT id FROM a WHERE `key` = 'z'", nil)
	require.NoError(t, err)
	require.Equal(t, "3", id)
	require.Error(t, session.Exec(ctx, "INSERT INTO a (`key`) VALUES ('Z')", nil), "cases are not told apart, as before")
}

func TestStandin(t *testing.T) {
	s, err := mysqld.Start(t.TempDir(), "127.0.0.1:0", "root's own")
	require.NoError(t, err)
	defer s.Close()
	h := host(database.Login{Server: s.Address(), User: "root", Password: secret.Of("root's own")})
	h.NoDump = true
	databasetest.Run(t, h)
}

// A server that takes the connection and then says nothing is given up.
func TestSilentServer(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	_, err = mariadb.Connect(ctx, database.Login{Server: l.Addr().String(), User: "root"})
	require.ErrorIs(t, err, database.ErrGone)
	require.ErrorContains(t, err, "does not answer")
}

// A procedure needs another delimiter and has semicolons inside.
func TestProcedures(t *testing.T) {
	d := servers.MariaDB(t)
	ctx := context.Background()
	db := d.Open(t, "")
	defer db.Close()
	_, err := db.Exec("CREATE DATABASE routines")
	require.NoError(t, err)
	session, err := mariadb.Open(ctx, database.Login{Server: d.Address, User: d.User, Password: secret.Of(d.Password),
		Database: "routines"})
	require.NoError(t, err)
	defer session.Close()
	file := openFile(t, "testdata/routines.sql")
	n, err := session.Run(ctx, file, database.ScriptOptions{From: "app_", To: "x9_"})
	require.NoError(t, err)
	require.Equal(t, 5, n)
	got, err := session.Value(ctx, "SELECT x9_double(21)", nil)
	require.NoError(t, err)
	require.Equal(t, "42", got)
	got, err = session.Value(ctx, "SELECT noted FROM x9_log", nil)
	require.NoError(t, err)
	require.Equal(t, "stored; app_ stays", got)
}

// Views come back with the rights and the character set that they had: one of the
// site's own user acts as that user, one of somebody else's as whoever asks.
func TestViewsKeepWhoMadeThem(t *testing.T) {
	d := servers.MariaDB(t)
	ctx := context.Background()
	db := d.Open(t, "")
	defer db.Close()
	for _, statement := range []string{"CREATE DATABASE one", "CREATE DATABASE two",
		"CREATE USER site@'127.0.0.1' IDENTIFIED BY 'paddle-gear'", "GRANT ALL ON one.* TO site@'127.0.0.1'",
		"GRANT ALL ON two.* TO site@'127.0.0.1'", "CREATE TABLE one.boats (name VARCHAR(20))",
		"CREATE VIEW one.by_root AS SELECT name FROM one.boats"} {
		_, err := db.Exec(statement)
		require.NoError(t, err, statement)
	}
	open := func(name string) *mariadb.Session {
		session, err := mariadb.Open(ctx, database.Login{Server: d.Address, User: "site",
			Password: secret.Of("paddle-gear"), Database: name})
		require.NoError(t, err)
		t.Cleanup(func() { _ = session.Close() })
		return session
	}
	from, to := open("one"), open("two")
	_, err := from.Run(ctx, strings.NewReader("SET collation_connection = utf8mb4_german2_ci;\n"+
		"CREATE VIEW by_site AS SELECT name FROM boats WHERE name = 'Möwe';\nSET NAMES utf8mb4;\n"), database.ScriptOptions{})
	require.NoError(t, err)
	var script bytes.Buffer
	require.NoError(t, from.Dump(ctx, &script, nil))
	_, err = to.Run(ctx, &script, database.ScriptOptions{})
	require.NoError(t, err)
	views := func(name string) string {
		got, err := to.Value(ctx, "SELECT GROUP_CONCAT(CONCAT_WS(' ', TABLE_NAME, SECURITY_TYPE, CHARACTER_SET_CLIENT, "+
			"COLLATION_CONNECTION, VIEW_DEFINITION LIKE '%Möwe%') ORDER BY TABLE_NAME SEPARATOR '\n') FROM "+
			"information_schema.VIEWS WHERE TABLE_SCHEMA = '"+name+"'", nil)
		require.NoError(t, err)
		return got
	}
	assert.Contains(t, views("two"), "by_site DEFINER utf8mb4 utf8mb4_german2_ci 1")
	assert.Contains(t, views("two"), "by_root INVOKER")
	definer, err := to.Value(ctx, "SELECT DEFINER FROM information_schema.VIEWS WHERE TABLE_SCHEMA = 'two' AND "+
		"TABLE_NAME = 'by_site'", nil)
	require.NoError(t, err)
	assert.Equal(t, "site@127.0.0.1", definer)
}
