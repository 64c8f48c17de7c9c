package mariadb_test

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/x509"
	"encoding/pem"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/secret"
	"tivset/internal/testing/impostor"
)

// Whoever answers in the server's place, on the loopback or through a tunnel, does not get the password: not in clear,
// and not under a key that he shows.
func TestAnImpostorGetsNoPassword(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	public, err := x509.MarshalPKIXPublicKey(&key.PublicKey)
	require.NoError(t, err)
	shown := pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: public})
	const password = "Lamp 92 of the lock"
	for _, plugin := range []string{"mysql_clear_password", "dialog", "sha256_password", "caching_sha2_password",
		"mysql_old_password"} {
		t.Run(plugin, func(t *testing.T) {
			i := impostor.MySQL(t, plugin, shown)
			_, err := mariadb.Open(context.Background(), database.Login{Server: i.Address, User: "quill_forum",
				Password: secret.Of(password), Database: "x"})
			require.Error(t, err)
			heard := i.Heard()
			require.Greater(t, len(heard), 40, "it got as far as the sign-in")
			assert.NotContains(t, string(heard), password)
			for at := 0; at+256 <= len(heard); at++ {
				if text, err := rsa.DecryptOAEP(sha1.New(), nil, key, heard[at:at+256], nil); err == nil {
					t.Errorf("he opens what was sent: %d bytes", len(text))
				}
			}
		})
	}
}
