package site

import (
	"cmp"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/place"
	"tivset/internal/hosting/web"
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

// lookAtDomain settles http or https, and makes sure that the domain answers.
func (s *Service) lookAtDomain(ctx context.Context, p *Plan, asked string) error {
	d := &p.place.Domain
	u, err := url.Parse(d.URL)
	if err != nil {
		return err
	}
	if u.Scheme == "https" {
		if _, err := s.Certified(ctx, d.Name, tlsAddress(d, u)); err != nil {
			return fault.New(fault.Failed, "the certificate of "+d.Name+" does not verify", d.URL, "Ask the host for one that does, or give the domain an address with http:// in the account.").Because(err)
		}
	} else {
		s.preferHTTPS(ctx, p, asked, u)
	}
	page, err := web.NewVisitor(connections(p.account)).Get(ctx, d.URL+"/")
	switch {
	case err != nil:
		return fault.New(fault.Failed, d.Name+" does not answer", d.URL, "When the domain is new, wait until its name is known, or say where it is with connect: in the account.").Because(err)
	case page.Away != "" && strings.HasPrefix(page.Away, "https://"+d.Name) && u.Scheme == "http":
		return fault.New(fault.Usage, d.Name+" sends its visitors to https", page.Away, "Give the domain that address in the account: url: https://"+d.Name)
	}
	return nil
}

// preferHTTPS takes https where a certificate verifies, unless the owner wrote
// http:// or the account knows the domain at a port of its own.
func (s *Service) preferHTTPS(ctx context.Context, p *Plan, asked string, u *url.URL) {
	d := &p.place.Domain
	if onThisMachine(d.Name) {
		return // nothing travels
	}
	if u.Port() == "" && d.Connect == "" && !strings.HasPrefix(asked, "http://") {
		if _, err := s.Certified(ctx, d.Name, net.JoinHostPort(d.Name, "443")); err == nil {
			d.URL = "https://" + d.Name
			p.Place.URL = p.place.URL()
			return
		}
	}
	p.Warnings = append(p.Warnings, fmt.Sprintf("%s has no certificate in use: passwords and pages travel readable by anybody on the way. Ask the host for one, and give the account url: https://%s", d.Name, d.Name))
}

// onThisMachine says whether a name never leaves the machine (RFC 6761).
func onThisMachine(name string) bool {
	return name == "localhost" || strings.HasSuffix(name, ".localhost")
}

func tlsAddress(d *account.Domain, u *url.URL) string {
	if d.Connect != "" {
		return d.Connect
	}
	return net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), "443"))
}

// resolve finds the place of an address. One given with https:// where the
// account has http:// is for the certificate to decide.
func resolve(address string, domains []account.Domain) (place.Place, error) {
	at, err := place.Resolve(address, domains)
	if err == nil || !strings.HasPrefix(address, "https://") {
		return at, err
	}
	bare, errBare := place.Resolve(strings.TrimPrefix(address, "https://"), domains)
	if errBare != nil || bare.Domain.Connect != "" || bare.Domain.URL != "http://"+bare.Domain.Name {
		return at, err
	}
	return bare, nil
}
