package postgresql_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"

	"tivset/internal/fault"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/postgresql"
	"tivset/internal/secret"
	"tivset/internal/testing/impostor"
)

// Whoever answers in the server's place, on the loopback or through a tunnel, gets neither the password nor what it
// could be guessed from.
func TestAnImpostorGetsNoPassword(t *testing.T) {
	const password = "Lamp 92 of the lock"
	for name, way := range map[string]uint32{"in clear": 3, "md5": 5} {
		i := impostor.PostgreSQL(t, way)
		_, err := postgresql.Open(context.Background(), database.Login{Server: i.Address, User: "quill_forum",
			Password: secret.Of(password), Database: "x"})
		assert.Equal(t, fault.UnknownServer, fault.CodeOf(err), "%s: %v", name, err)
		heard := string(i.Heard())
		assert.Contains(t, heard, "quill_forum", name)
		assert.NotContains(t, heard, password, name)
		assert.NotContains(t, heard, "md5", name)
	}
}
