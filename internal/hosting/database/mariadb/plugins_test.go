package mariadb_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/secret"
	"tivset/internal/trial/servers"
)

// Servers check passwords in different ways; each user signs in by its own.
func TestSignInPlugins(t *testing.T) {
	ctx := context.Background()
	d := servers.MariaDB(t)
	root := d.Open(t, "")
	defer root.Close()
	for plugin, statements := range map[string][]string{
		"mysql_native_password": {"CREATE USER 'native'@'%' IDENTIFIED VIA mysql_native_password USING PASSWORD('it''s " +
			"\"x\" é')"},
		"ed25519": {"INSTALL SONAME 'auth_ed25519'",
			"CREATE USER 'ed25519'@'%' IDENTIFIED VIA ed25519 USING PASSWORD('it''s \"x\" é')"},
	} {
		for _, s := range statements {
			_, err := root.Exec(s)
			require.NoError(t, err, plugin)
		}
		name := map[string]string{"mysql_native_password": "native", "ed25519": "ed25519"}[plugin]
		s, err := mariadb.Connect(ctx, database.Login{Server: d.Address, User: name, Password: secret.Of(`it's "x" é`)})
		require.NoError(t, err, plugin)
		require.NoError(t, s.Close())
		_, err = mariadb.Connect(ctx, database.Login{Server: d.Address, User: name, Password: secret.Of("wrong")})
		assert.ErrorContains(t, err, "refused the user or password", plugin)
	}
}
