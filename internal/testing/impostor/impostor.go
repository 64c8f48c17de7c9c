// Package impostor answers in the place of a database server, to find out what a client shows to whoever does.
//
// It is for tests alone, and holds no database: it says what a server says until somebody has signed in, and keeps
// every byte that it hears.
package impostor

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/binary"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Impostor is something that listens.
type Impostor struct {
	Address string // host:port

	mu    sync.Mutex
	heard bytes.Buffer
}

// Heard is all that clients said so far.
func (i *Impostor) Heard() []byte {
	i.mu.Lock()
	defer i.mu.Unlock()
	return bytes.Clone(i.heard.Bytes())
}

// listen answers each connection with talk, which is over when it returns.
func listen(t *testing.T, talk func(c net.Conn, hear func(c net.Conn, n int) []byte)) *Impostor {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	i := &Impostor{Address: l.Addr().String()}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				_ = c.SetDeadline(time.Now().Add(5 * time.Second))
				talk(c, i.hear)
			}()
		}
	}()
	return i
}

// hear reads n bytes, or what comes of them.
func (i *Impostor) hear(c net.Conn, n int) []byte {
	out := make([]byte, n)
	got := 0
	for got < n {
		more, err := c.Read(out[got:])
		if more > 0 {
			i.mu.Lock()
			i.heard.Write(out[got : got+more])
			i.mu.Unlock()
		}
		if got += more; err != nil {
			break
		}
	}
	return out[:got]
}

// PostgreSQL answers as a PostgreSQL that wants the password in some way (PostgreSQL manual, "Message Formats",
// AuthenticationCleartextPassword 3, AuthenticationMD5Password 5), and does not encrypt.
func PostgreSQL(t *testing.T, way uint32) *Impostor {
	t.Helper()
	return listen(t, func(c net.Conn, hears func(net.Conn, int) []byte) {
		hear := func(n int) []byte { return hears(c, n) }
		for {
			size := hear(4)
			if len(size) < 4 {
				return
			}
			hello := hear(int(binary.BigEndian.Uint32(size)) - 4)
			if len(hello) == 4 && binary.BigEndian.Uint32(hello) == 80877103 { // SSLRequest
				_, _ = c.Write([]byte("N"))
				continue
			}
			break
		}
		wants := binary.BigEndian.AppendUint32([]byte{'R', 0, 0, 0, 8}, way)
		if way == 5 {
			wants[4] = 12
			wants = append(wants, 1, 2, 3, 4) // the salt
		}
		_, _ = c.Write(wants)
		hear(1024)
	})
}

// MySQL answers as a server of MariaDB's protocol that wants the password by a plugin, and shows a public key of its
// own
// where it is asked for one (MariaDB, "Connecting": initial handshake, authentication switch request).
func MySQL(t *testing.T, plugin string, key []byte) *Impostor {
	t.Helper()
	return mysql(t, plugin, key, nil)
}

// EncryptingMySQL is one that encrypts, with a certificate of its own making, and hears what is said in that line.
func EncryptingMySQL(t *testing.T, plugin string, certificate tls.Certificate) *Impostor {
	t.Helper()
	return mysql(t, plugin, nil, &tls.Config{Certificates: []tls.Certificate{certificate}})
}

func mysql(t *testing.T, plugin string, key []byte, encrypts *tls.Config) *Impostor {
	t.Helper()
	return listen(t, func(c net.Conn, hears func(net.Conn, int) []byte) {
		hear := func(n int) []byte { return hears(c, n) }
		can := byte(0x82) // secure connections, and the protocol of 4.1
		if encrypts != nil {
			can |= 0x08
		}
		send := func(n byte, what ...byte) {
			size := len(what)
			_, _ = c.Write(append([]byte{byte(size), byte(size >> 8), byte(size >> 16), n}, what...))
		}
		packet := func() []byte {
			head := hear(4)
			if len(head) < 4 {
				return nil
			}
			return hear(int(head[0]) | int(head[1])<<8 | int(head[2])<<16)
		}
		salt := []byte("12345678abcdefghijkl")
		hello := append([]byte{10}, "11.8.0-MariaDB\x00"...)
		hello = append(hello, 1, 0, 0, 0)
		hello = append(append(hello, salt[:8]...), 0)
		hello = append(hello, 0x00, can, 33, 2, 0, 0x0a, 0x00, 21) // of what it can: secure connections, plugins
		hello = append(append(hello, make([]byte, 10)...), append(salt[8:], 0)...)
		hello = append(append(hello, plugin...), 0)
		send(0, hello...)
		if packet() == nil {
			return
		}
		first := byte(2)
		if encrypts != nil { // that was the request for it
			secured := tls.Server(c, encrypts)
			if secured.Handshake() != nil {
				return
			}
			if c = secured; packet() == nil {
				return
			}
			first++
		}
		send(first, append(append([]byte{0xfe}, plugin+"\x00"...), append(salt, 0)...)...)
		for n := first + 2; ; n += 2 {
			said := packet()
			switch {
			case said == nil:
				return
			case len(said) == 1 && said[0] <= 2: // it asks for the key
				send(n, append([]byte{1}, key...)...)
			case plugin == "caching_sha2_password" && len(said) == 32:
				send(n, 1, 4) // all of it, please
			default:
				send(n, 0xff, 0x15, 0x04, '#', '2', '8', '0', '0', '0', 'n', 'o')
				return
			}
		}
	})
}

// Saying answers every connection with the same bytes, whatever it hears, and then hangs up.
func Saying(t *testing.T, said []byte) *Impostor {
	t.Helper()
	return listen(t, func(c net.Conn, hear func(net.Conn, int) []byte) {
		go hear(c, 1<<20) // else what was sent is lost when the line is reset
		_, _ = c.Write(said)
		time.Sleep(time.Millisecond)
	})
}

// Ends has something sign in to who says these bytes, and wants an end of that soon, whichever.
func Ends(t *testing.T, said []byte, signIn func(ctx context.Context, address string)) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	began := time.Now()
	signIn(ctx, Saying(t, said).Address)
	require.Less(t, time.Since(began), 10*time.Second)
}
