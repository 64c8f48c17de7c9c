package mail

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"
)

// lookupTime is for how long the name servers may take.
const lookupTime = 10 * time.Second

// resolver asks name servers; *net.Resolver is one.
type resolver interface {
	LookupMX(ctx context.Context, domain string) ([]*net.MX, error)
	LookupHost(ctx context.Context, domain string) ([]string, error)
}

// Takes asks the name servers whether a domain can receive mail: it has a mail
// exchanger, or an address of its own (RFC 5321, 5.1), and does not say that
// it takes none (RFC 7505).
func Takes(ctx context.Context, domain string) error { return takes(ctx, net.DefaultResolver, domain) }

func takes(ctx context.Context, r resolver, domain string) error {
	ctx, cancel := context.WithTimeout(ctx, lookupTime)
	defer cancel()
	exchangers, err := r.LookupMX(ctx, domain)
	if len(exchangers) == 1 && exchangers[0].Host == "." {
		return fmt.Errorf("%s says that it takes no mail", domain)
	}
	if len(exchangers) > 0 {
		return nil
	}
	var dns *net.DNSError
	if err != nil && (!errors.As(err, &dns) || !dns.IsNotFound) {
		return err
	}
	_, err = r.LookupHost(ctx, domain)
	return err
}
