package mysqld

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"
	"net"
)

// Capabilities and status flags (MariaDB manual, "Connection Phase").
const (
	capLongPassword = 1 << 0
	capLongFlag     = 1 << 2
	capWithDatabase = 1 << 3
	capProtocol41   = 1 << 9
	capTransactions = 1 << 13
	capSecure       = 1 << 15
	capPluginAuth   = 1 << 19
	capAttributes   = 1 << 20
	capLenencAuth   = 1 << 21

	capabilities = capLongPassword | capLongFlag | capWithDatabase | capProtocol41 | capTransactions |
		capSecure | capPluginAuth | capAttributes | capLenencAuth

	statusAutocommit = 2
	charsetUTF8MB4   = 45
	charsetBinary    = 63

	largestPacket = 1<<24 - 1
	mostRead      = 64 << 20
)

// wire reads and writes packets.
type wire struct {
	in  *bufio.Reader
	out *bufio.Writer
	seq byte
}

func newWire(c net.Conn) *wire { return &wire{in: bufio.NewReader(c), out: bufio.NewWriter(c)} }

// read takes one packet, put together from its pieces.
func (w *wire) read() ([]byte, error) {
	var all []byte
	for {
		var head [4]byte
		if _, err := io.ReadFull(w.in, head[:]); err != nil {
			return nil, err
		}
		size := int(head[0]) | int(head[1])<<8 | int(head[2])<<16
		w.seq = head[3] + 1
		if len(all)+size > mostRead {
			return nil, fmt.Errorf("a packet of more than %d MB", mostRead>>20)
		}
		part := make([]byte, size)
		if _, err := io.ReadFull(w.in, part); err != nil {
			return nil, err
		}
		all = append(all, part...)
		if size < largestPacket {
			return all, nil
		}
	}
}

func (w *wire) write(payload []byte) {
	for {
		part := payload[:min(len(payload), largestPacket)]
		head := []byte{byte(len(part)), byte(len(part) >> 8), byte(len(part) >> 16), w.seq}
		w.seq++
		_, _ = w.out.Write(head) // an error stays with the buffer until Flush
		_, _ = w.out.Write(part)
		payload = payload[len(part):]
		if len(part) < largestPacket {
			return
		}
	}
}

func (w *wire) flush() error { return w.out.Flush() }

func (w *wire) ok(affected, insertID int64) {
	p := []byte{0}
	p = lenencInt(p, uint64(affected))
	p = lenencInt(p, uint64(insertID))
	p = binary.LittleEndian.AppendUint16(p, statusAutocommit)
	w.write(append(p, 0, 0)) // no warnings
}

func (w *wire) eof() { w.write([]byte{0xfe, 0, 0, statusAutocommit, 0}) }

// sqlError is an error as the protocol has it.
type sqlError struct {
	number uint16
	state  string
	text   string
}

func (e *sqlError) Error() string { return e.text }

func refuse(number uint16, state, format string, args ...any) *sqlError {
	return &sqlError{number, state, fmt.Sprintf(format, args...)}
}

func (w *wire) fail(e *sqlError) {
	p := binary.LittleEndian.AppendUint16([]byte{0xff}, e.number)
	p = append(p, '#')
	p = append(p, e.state...)
	w.write(append(p, e.text...))
}

func lenencInt(p []byte, n uint64) []byte {
	switch {
	case n < 251:
		return append(p, byte(n))
	case n < 1<<16:
		return binary.LittleEndian.AppendUint16(append(p, 0xfc), uint16(n))
	case n < 1<<24:
		return append(p, 0xfd, byte(n), byte(n>>8), byte(n>>16))
	}
	return binary.LittleEndian.AppendUint64(append(p, 0xfe), n)
}

func lenencString(p []byte, s string) []byte { return append(lenencInt(p, uint64(len(s))), s...) }

// Column types.
const (
	typeDouble    = 5
	typeLonglong  = 8
	typeBlob      = 0xfc
	typeVarString = 0xfd
)

// result is a table of values: nil, int64, float64, string or []byte.
type result struct {
	columns []string
	rows    [][]any
}

// send writes a result set in the text protocol.
func (w *wire) send(r *result) {
	w.write(lenencInt(nil, uint64(len(r.columns))))
	for i, name := range r.columns {
		kind, charset := columnType(r.rows, i)
		p := lenencString(nil, "def")
		for _, s := range []string{"", "", "", name, name} {
			p = lenencString(p, s)
		}
		p = append(p, 0x0c)
		p = binary.LittleEndian.AppendUint16(p, charset)
		p = binary.LittleEndian.AppendUint32(p, 1<<20)
		w.write(append(p, kind, 0, 0, 0, 0, 0))
	}
	w.eof()
	for _, row := range r.rows {
		var p []byte
		for _, v := range row {
			if v == nil {
				p = append(p, 0xfb)
			} else {
				p = lenencString(p, text(v))
			}
		}
		w.write(p)
	}
	w.eof()
}

func columnType(rows [][]any, i int) (kind byte, charset uint16) {
	for _, row := range rows {
		switch row[i].(type) {
		case int64:
			return typeLonglong, charsetBinary
		case float64:
			return typeDouble, charsetBinary
		case []byte:
			return typeBlob, charsetBinary
		case string:
			return typeVarString, charsetUTF8MB4
		}
	}
	return typeVarString, charsetUTF8MB4
}

func text(v any) string {
	switch v := v.(type) {
	case []byte:
		return string(v)
	case string:
		return v
	}
	return fmt.Sprint(v)
}
