package hosting

import (
	"cmp"
	"context"
	"crypto/tls"
	"net"
	"net/url"
	"time"

	"tivset/internal/hosting/account"
)

// tlsTime is for how long a server may take to show its certificate.
const tlsTime = 5 * time.Second

// Certified says until when the certificate that a server shows for a name is
// good, and why it does not verify; nil when it does. Address is host:port.
func Certified(ctx context.Context, name, address string) (until time.Time, err error) {
	ctx, cancel := context.WithTimeout(ctx, tlsTime)
	defer cancel()
	d := tls.Dialer{Config: &tls.Config{ServerName: name}}
	c, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return until, err
	}
	if secured, ok := c.(*tls.Conn); ok {
		until = secured.ConnectionState().PeerCertificates[0].NotAfter
	}
	return until, c.Close()
}

// Certified says until when the certificate of one of the account's domains is
// good, or why it does not verify.
func (a *Account) Certified(ctx context.Context, d account.Domain) (time.Time, error) {
	u, err := url.Parse(d.URL)
	if err != nil {
		return time.Time{}, err
	}
	address := cmp.Or(d.Connect, net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "443")))
	return a.opener.Certified(ctx, d.Name, address)
}
