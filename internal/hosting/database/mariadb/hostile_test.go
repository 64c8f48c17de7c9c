package mariadb_test

import (
	"context"
	"net"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/secret"
)

// A server whose packet has no end is left before it fills the memory.
func TestEndlessPackets(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				part := make([]byte, 4+1<<24-1)
				part[0], part[1], part[2] = 0xff, 0xff, 0xff
				for n := range 40 {
					part[3] = byte(n)
					if _, err := conn.Write(part); err != nil {
						return
					}
				}
			}()
		}
	}()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err = mariadb.Open(ctx,
		database.Login{Server: l.Addr().String(), User: "u", Password: secret.Of("p"), Database: "d"})
	require.Error(t, err)
	runtime.ReadMemStats(&after)
	assert.Less(t, after.Sys-before.Sys, uint64(200<<20))
}
