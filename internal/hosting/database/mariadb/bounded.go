package mariadb

import (
	"context"
	"fmt"
	"net"
)

// longestPacket is how many parts of 16 MB a packet of the server may have
// (MariaDB manual, "Protocol Basics"); the driver gathers them in memory.
const longestPacket = 3

// bounded is a connection over which no longer packet comes. It reads along what
// frames packets; of what is encrypted it sees none.
type bounded struct {
	net.Conn
	header [4]byte
	have   int // bytes of the header
	left   int // bytes of the packet's part
	parts  int // full parts in a row
}

// dialing makes connections that are bounded.
func dialing(dial func(context.Context, string, string) (net.Conn, error)) func(context.Context, string,
	string) (net.Conn, error) {
	if dial == nil {
		dial = (&net.Dialer{Timeout: signInTime}).DialContext
	}
	return func(ctx context.Context, network, address string) (net.Conn, error) {
		conn, err := dial(ctx, network, address)
		if err != nil {
			return nil, err
		}
		return &bounded{Conn: conn}, nil
	}
}

// Read implements net.Conn.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.Conn.Read(p)
	for rest := p[:n]; len(rest) > 0; {
		if b.left > 0 {
			skip := min(b.left, len(rest))
			b.left, rest = b.left-skip, rest[skip:]
			continue
		}
		took := copy(b.header[b.have:], rest)
		b.have, rest = b.have+took, rest[took:]
		if b.have < len(b.header) {
			continue
		}
		b.have, b.left = 0, int(b.header[0])|int(b.header[1])<<8|int(b.header[2])<<16
		b.parts++
		if b.left < 1<<24-1 {
			b.parts = 0
		}
		if b.parts > longestPacket {
			return 0, fmt.Errorf("the database server sends a value of more than %d MB", longestPacket*16)
		}
	}
	return n, err
}
