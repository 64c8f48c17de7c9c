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

// Takes asks the name servers whether a domain can receive mail: it has a mail
// exchanger, or an address of its own (RFC 5321, 5.1), and does not say that
// it takes none (RFC 7505).
func Takes(ctx context.Context, domain string) error {
	ctx, cancel := context.WithTimeout(ctx, lookupTime)
	defer cancel()
	exchangers, err := net.DefaultResolver.LookupMX(ctx, domain)
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
	_, err = net.DefaultResolver.LookupHost(ctx, domain)
	return err
}
