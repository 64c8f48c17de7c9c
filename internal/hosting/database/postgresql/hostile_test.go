package postgresql_test

import (
	"context"
	"encoding/binary"
	"io"
	"net"
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/postgresql"
	"tivset/internal/secret"
)

// A server that announces a message without end (PostgreSQL 15 manual, 55.7) is
// left before it fills the memory.
func TestEndlessMessages(t *testing.T) {
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
				_, _ = io.ReadFull(conn, make([]byte, 8))
				head := append([]byte{'E'}, binary.BigEndian.AppendUint32(nil, 1<<30-1)...)
				_, _ = conn.Write(head)
				for block := make([]byte, 1<<20); ; {
					if _, err := conn.Write(block); err != nil {
						return
					}
				}
			}()
		}
	}()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	began := time.Now()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, err = postgresql.Open(ctx,
		database.Login{Server: l.Addr().String(), User: "u", Password: secret.Of("p"), Database: "d"})
	require.Error(t, err)
	runtime.ReadMemStats(&after)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(100<<20))
	assert.Less(t, time.Since(began), 5*time.Second)
}
