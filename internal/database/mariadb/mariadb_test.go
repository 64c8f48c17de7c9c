package mariadb_test

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/database"
	"tivset/internal/database/databasetest"
	"tivset/internal/database/mariadb"
	"tivset/internal/secret"
	"tivset/internal/standin/mysqld"
	"tivset/internal/testserver"
)

func host(login database.Login) databasetest.Host {
	return databasetest.Host{
		Engine: "mariadb", Admin: login,
		Connect: func(ctx context.Context, l database.Login) (database.Server, error) { return mariadb.Connect(ctx, l) },
		Open:    func(ctx context.Context, l database.Login) (database.Session, error) { return mariadb.Open(ctx, l) },
	}
}

func TestRealServer(t *testing.T) {
	d := testserver.MariaDB(t)
	login := database.Login{Server: d.Address, User: d.User, Password: secret.Of(d.Password)}
	t.Run("tcp", func(t *testing.T) { databasetest.Run(t, host(login)) })
	login.Server = d.Socket
	t.Run("socket", func(t *testing.T) { databasetest.Run(t, host(login)) })
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
	d := testserver.MariaDB(t)
	ctx := context.Background()
	db := d.Open(t, "")
	defer db.Close()
	_, err := db.Exec("CREATE DATABASE routines")
	require.NoError(t, err)
	session, err := mariadb.Open(ctx, database.Login{Server: d.Address, User: d.User, Password: secret.Of(d.Password), Database: "routines"})
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
