package mariadb_test

import (
	"context"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"net/http/httptest"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/certificates"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/hosting/reach"
	"tivset/internal/screen"
	"tivset/internal/secret"
	"tivset/internal/testing/impostor"
	"tivset/internal/trial/servers"
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

// Nor does he who encrypts, in a line that only he can open: where his certificate does not verify, and nobody has
// accepted it, he hears nothing of the sign-in. A real server with a certificate that verifies, or that was accepted,
// is spoken to; one that shows another than was accepted is not.
func TestOnlyAKnownServerHearsThePassword(t *testing.T) {
	const password = "Lamp 92 of the lock"
	real := servers.MariaDB(t)
	login := database.Login{Server: real.Address, User: real.User, Password: secret.Of(real.Password),
		Account: "quillmere"}
	of := func(known *certificates.Known, at string) func(tls.ConnectionState) error {
		return known.Judge(certificates.Server{What: "database server", Address: at, Account: "quillmere",
			Database: "main"}, "127.0.0.1")
	}
	open := func(known *certificates.Known, l database.Login) error {
		l.Certificate = of(known, l.Server)
		s, err := mariadb.Connect(context.Background(), l)
		if err == nil {
			err = s.Close()
		}
		return err
	}
	known := &certificates.Known{Own: filepath.Join(t.TempDir(), "known")}
	err := open(known, login)
	require.ErrorContains(t, err, "the database server's certificate does not verify: nobody whom this machine trusts")
	f := fault.Of(err)
	assert.Equal(t, fault.NeedsConfirmation, f.Kind)
	assert.Contains(t, screen.Spelled(f.Remedy), "tivset account trust quillmere SHA256:")
	require.NoError(t, open(&certificates.Known{Own: known.Own, Roots: real.Roots}, login))

	certificate := httptest.NewUnstartedServer(nil)
	certificate.StartTLS()
	t.Cleanup(certificate.Close)
	for _, plugin := range []string{"sha256_password", "caching_sha2_password", "mysql_clear_password"} {
		i := impostor.EncryptingMySQL(t, plugin, certificate.TLS.Certificates[0])
		l := database.Login{Server: i.Address, User: "quill_forum", Password: secret.Of(password)}
		require.Error(t, open(known, l))
		assert.NotContains(t, string(i.Heard()), password, plugin)
		assert.NotContains(t, string(i.Heard()), "quill_forum", plugin)
	}

	a := &account.Account{Name: "quillmere"}
	shown, err := reach.TrustDatabase(context.Background(), known, a, &account.Database{Name: "main", Engine: "mariadb",
		Server: real.Address}, "")
	require.ErrorContains(t, err, "no certificate that could be accepted", "of this machine itself")
	assert.Empty(t, shown)
	_, seen := mariadb.Connect(context.Background(), database.Login{Server: real.Address, User: "x",
		Certificate: of(certificates.Seeing(), real.Address)})
	server := certificates.Server{What: "database server", Address: real.Address}
	shown, err = known.Accept(server, seen, "")
	require.NoError(t, err)
	_, err = known.Accept(server, seen, shown)
	require.NoError(t, err)
	require.NoError(t, open(known, login))
	require.NoError(t, os.WriteFile(known.Own, []byte(real.Address+" SHA256:AA:BB\n"), 0o600))
	assert.ErrorContains(t, open(known, login), "certificate has changed")
}
