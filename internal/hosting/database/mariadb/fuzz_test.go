package mariadb_test

import (
	"context"
	"testing"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/secret"
	"tivset/internal/testing/impostor"
)

// packet is one of the protocol's (MariaDB manual, "0 - Packet").
func packet(number byte, content string) []byte {
	n := len(content)
	return append([]byte{byte(n), byte(n >> 8), byte(n >> 16), number}, content...)
}

// FuzzReplies signs in to something that answers with anything at all, and asks it for what servers are asked: there is
// an error or an answer, soon.
func FuzzReplies(f *testing.F) {
	greeting := packet(0, "\x0a10.11.0-x\x00\x01\x00\x00\x0012345678\x00\xff\xf7\x21\x02\x00\xff\x81\x15\x00\x00\x00"+
		"\x00\x00\x00\x00\x00\x00\x00123456789012\x00mysql_native_password\x00")
	ok := packet(2, "\x00\x00\x00\x02\x00\x00\x00")
	f.Add(append(append(append([]byte{}, greeting...), ok...), packet(1, "\x01")...))
	f.Add(append(append([]byte{}, greeting...), packet(2, "\xfeclient_ed25519\x0012345678901234567890")...))
	f.Add(append(append([]byte{}, greeting...), packet(2, "\xff\x15\x04#28000no")...))
	f.Add(append(append(append([]byte{}, greeting...), ok...), 0xff, 0xff, 0xff, 1, 0xfb))
	f.Fuzz(func(t *testing.T, said []byte) {
		impostor.Ends(t, said, func(ctx context.Context, address string) {
			s, err := mariadb.Connect(ctx, database.Login{Server: address, User: "quill", Password: secret.Of("x")})
			if err == nil {
				_, _ = s.Databases(ctx)
				_ = s.Close()
			}
		})
	})
}
