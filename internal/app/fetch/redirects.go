package fetch

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
)

// mostRedirects are followed of one address.
const mostRedirects = 10

// Careful is a client that a server cannot send to where it could not be reached from: to an address that is not
// encrypted where the first one was, and into this machine or the networks around it (RFC 1918, RFC 4193, RFC 3927)
// where the first one was outside.
func Careful(client *http.Client) *http.Client {
	out := *client
	out.CheckRedirect = func(next *http.Request, before []*http.Request) error {
		first := before[0].URL
		switch {
		case len(before) > mostRedirects:
			return fmt.Errorf("more than %d redirects", mostRedirects)
		case next.URL.Scheme != "https" && next.URL.Scheme != "http":
			return fmt.Errorf("the server leads to %s, which is no address of the web", next.URL.Redacted())
		case before[len(before)-1].URL.Scheme == "https" && next.URL.Scheme != "https":
			return fmt.Errorf("the server leads from https on to %s, which is not encrypted", next.URL.Redacted())
		case next.URL.Host != first.Host && inside(next.Context(), next.URL) && !inside(next.Context(), first):
			return fmt.Errorf("the server leads on to %s, which is inside of this network", next.URL.Redacted())
		}
		return nil
	}
	return &out
}

// inside says whether an address is of this machine, or of a network that only those in it reach. What cannot be looked
// up is not reached either.
func inside(ctx context.Context, u *url.URL) bool {
	all, err := net.DefaultResolver.LookupNetIP(ctx, "ip", u.Hostname())
	var unknown *net.DNSError
	if err != nil && !errors.As(err, &unknown) {
		return true
	}
	for _, ip := range all {
		if private(ip) {
			return true
		}
	}
	return false
}

func private(ip netip.Addr) bool {
	ip = ip.Unmap()
	return ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast() || ip.IsUnspecified() || ip.IsMulticast()
}
