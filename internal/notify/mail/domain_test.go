package mail

import (
	"context"
	"errors"
	"net"
	"testing"

	"github.com/stretchr/testify/assert"
)

// names are name servers that know a few domains.
type names struct {
	exchangers map[string]string
	hosts      map[string]bool
	broken     bool
}

func (n names) LookupMX(_ context.Context, domain string) ([]*net.MX, error) {
	if n.broken {
		return nil, errors.New("no name server answers")
	}
	if host, ok := n.exchangers[domain]; ok {
		return []*net.MX{{Host: host}}, nil
	}
	return nil, &net.DNSError{IsNotFound: true, Name: domain}
}

func (n names) LookupHost(_ context.Context, domain string) ([]string, error) {
	if n.hosts[domain] {
		return []string{"127.0.0.1"}, nil
	}
	return nil, &net.DNSError{IsNotFound: true, Name: domain}
}

func TestTakes(t *testing.T) {
	n := names{exchangers: map[string]string{"mails.example": "mx.mails.example.", "silent.example": "."},
		hosts: map[string]bool{"bare.example": true, "silent.example": true}}
	ctx := context.Background()
	assert.NoError(t, takes(ctx, n, "mails.example"))
	assert.NoError(t, takes(ctx, n, "bare.example"), "an address will do")
	assert.ErrorContains(t, takes(ctx, n, "silent.example"), "takes no mail")
	assert.Error(t, takes(ctx, n, "none.example"))
	n.broken = true
	assert.ErrorContains(t, takes(ctx, n, "mails.example"), "no name server answers")
}
