package postgresql_test

import (
	"context"
	"encoding/binary"
	"testing"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/postgresql"
	"tivset/internal/secret"
	"tivset/internal/testing/impostor"
)

// message is one of the protocol's (PostgreSQL manual, "Message Formats").
func message(kind byte, content string) []byte {
	return append(binary.BigEndian.AppendUint32([]byte{kind}, uint32(len(content)+4)), content...)
}

// FuzzReplies signs in to something that answers with anything at all, and asks it for what servers are asked: there is
// an error or an answer, soon.
func FuzzReplies(f *testing.F) {
	in := append(message('R', "\x00\x00\x00\x00"), message('Z', "I")...)
	f.Add(append(in,
		message('T', "\x00\x01a\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x19\xff\xff\xff\xff\xff\xff\x00\x00")...))
	f.Add(message('E', "SFATAL\x00C28P01\x00Mno\x00\x00"))
	f.Add(message('R', "\x00\x00\x00\x0aSCRAM-SHA-256\x00\x00"))
	f.Add([]byte{'D', 0x7f, 0xff, 0xff, 0xff, 0, 0})
	f.Fuzz(func(t *testing.T, said []byte) {
		impostor.Ends(t, said, func(ctx context.Context, address string) {
			s, err := postgresql.Connect(ctx, database.Login{Server: address, User: "quill", Password: secret.Of("x")})
			if err == nil {
				_, _ = s.Databases(ctx)
				_ = s.Close()
			}
		})
	})
}
