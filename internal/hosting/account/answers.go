package account

import (
	"context"
	"net"
	"strings"
	"time"

	"tivset/internal/fault"
)

// For how long a server is waited for: to be there, and to say what it is. Some look up who
// asks before they greet.
const (
	connecting = 10 * time.Second
	greeting   = 15 * time.Second
)

// Answers sees whether what listens at an address (host or host:port) greets as the line's
// servers do: "SSH-" (RFC 4253, 4.2), or 220 and others of FTP (RFC 959, 5.4).
func (l Line) Answers(ctx context.Context, at string) error {
	if _, _, err := net.SplitHostPort(at); err != nil {
		at = net.JoinHostPort(at, l.Port)
	}
	c, err := (&net.Dialer{Timeout: connecting}).DialContext(ctx, "tcp", at)
	if err != nil {
		return fault.New(fault.Failed, "no server answers there", at, "Check the name, as the host writes it.").Wrap(err)
	}
	defer c.Close()
	_ = c.SetReadDeadline(time.Now().Add(greeting))
	said := make([]byte, 4)
	n, err := c.Read(said)
	is := strings.HasPrefix(string(said[:n]), "SSH-")
	if err != nil || is != l.Shell || !is && (n == 0 || said[0] != '2' && said[0] != '1' && said[0] != '4') {
		return fault.New(fault.Failed, "what answers there is no server of files", at,
			"Check the name and the port, as the host writes them.")
	}
	return nil
}
