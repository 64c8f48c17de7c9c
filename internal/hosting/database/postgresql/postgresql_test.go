package postgresql_test

import (
	"context"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/databasetest"
	"tivset/internal/hosting/database/postgresql"
	"tivset/internal/secret"
	"tivset/internal/trial/servers"
)

var ctx = context.Background()

func host(login database.Login) databasetest.Host {
	return databasetest.Host{
		Engine: "postgresql", Admin: login,
		Connect: func(ctx context.Context, l database.Login) (database.Server, error) {
			return postgresql.Connect(ctx, l)
		},
		Open: func(ctx context.Context, l database.Login) (database.Session, error) { return postgresql.Open(ctx, l) },
	}
}

func TestRealServer(t *testing.T) {
	d := servers.PostgreSQL(t)
	login := database.Login{Server: d.Address, User: d.User, Password: secret.Of(d.Password)}
	t.Run("tcp", func(t *testing.T) { databasetest.Run(t, host(login)) })
	login.Server = d.Socket
	t.Run("socket", func(t *testing.T) { databasetest.Run(t, host(login)) })

	// One who may create and is no superuser, as hosts give out.
	chief, err := postgresql.Open(ctx, database.Login{Server: d.Address, User: d.User, Password: secret.Of(d.Password),
		Database: "postgres"})
	require.NoError(t, err)
	defer chief.Close()
	require.NoError(t, chief.Exec(ctx, "CREATE ROLE maker LOGIN CREATEDB CREATEROLE PASSWORD 'm'", nil))
	login = database.Login{Server: d.Address, User: "maker", Password: secret.Of("m")}
	t.Run("no superuser", func(t *testing.T) { databasetest.Run(t, host(login)) })
	catalogue := d.Catalogue(t)
	assert.NotContains(t, catalogue, "role quill_own")
	assert.NotContains(t, catalogue, "database quill_own")
}

// A server that takes the connection and then says nothing is given up.
func TestSilentServer(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	short, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	_, err = postgresql.Connect(short, database.Login{Server: l.Addr().String(), User: "chief"})
	assert.ErrorIs(t, err, database.ErrGone)
	assert.ErrorContains(t, err, "does not answer")
}
