package team

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"

	"github.com/jackc/pgx/v5/pgxpool"

	"tivset/internal/fault"
)

// parameters are those of an address that are ours, and not the driver's.
type parameters struct {
	ledger      string // which ledger in the database
	certificate string // the SHA-256 of the server's certificate, in hexadecimal; "" for one that verifies
	mode        string // sslmode, as it was written
}

// split takes what is ours out of an address.
func split(address string) (bare string, p parameters, err error) {
	bare, query, _ := strings.Cut(address, "?")
	p.ledger = "tivset"
	var rest []string
	for _, part := range strings.Split(query, "&") {
		name, value, _ := strings.Cut(part, "=")
		switch name {
		case "ledger":
			p.ledger = value
			continue
		case "certificate":
			p.certificate = strings.ToLower(strings.ReplaceAll(value, ":", ""))
			continue
		case "sslmode":
			p.mode = value
		case "":
			continue
		}
		rest = append(rest, part)
	}
	if sum, err := hex.DecodeString(p.certificate); err != nil || len(sum) != 0 && len(sum) != sha256.Size {
		return "", p, fault.New(fault.Usage, "that is no fingerprint of a certificate", p.certificate,
			"Write the 64 hexadecimal digits of its SHA-256, as this prints them: openssl x509 -fingerprint -sha256.")
	}
	if !schemaForm.MatchString(p.ledger) {
		return "", p, fault.New(fault.Usage, "a ledger cannot be called so", p.ledger,
			"Use small letters, digits and _, beginning with a letter.")
	}
	if len(rest) > 0 {
		bare += "?" + strings.Join(rest, "&")
	}
	return bare, p, nil
}

// guarded has connections show the password to nobody, and go to no server but the one that is meant: the password is
// proven, never sent (SCRAM, RFC 5802), and what is said is encrypted for a server whose certificate verifies, or is
// the one that the address names. Who writes sslmode=disable says that nobody else can stand in between; who names a
// root of their own (sslmode=verify-full&sslrootcert=FILE) has the driver do it.
func guarded(c *pgxpool.Config, p parameters) {
	c.ConnConfig.RequireAuth = "scram-sha-256"
	if strings.HasPrefix(c.ConnConfig.Host, "/") { // a socket: of the server's own machine
		c.ConnConfig.RequireAuth = "scram-sha-256,none"
		return
	}
	if p.mode == "disable" || strings.HasPrefix(p.mode, "verify-") {
		return
	}
	config := &tls.Config{ServerName: c.ConnConfig.Host, InsecureSkipVerify: true, // VerifyConnection does it
		VerifyConnection: func(s tls.ConnectionState) error { return known(s, p.certificate, c.ConnConfig.Host) }}
	c.ConnConfig.TLSConfig = config
	c.ConnConfig.Fallbacks = nil
}

// unknownServer is a server whose certificate nobody vouches for.
type unknownServer struct {
	shown   string
	because error
}

func (u unknownServer) Error() string { return "its certificate does not verify: " + u.because.Error() }

// known says whether the server is the one that is meant.
func known(s tls.ConnectionState, pin, host string) error {
	sum := sha256.Sum256(s.PeerCertificates[0].Raw)
	shown := hex.EncodeToString(sum[:])
	if pin != "" {
		if shown == pin {
			return nil
		}
		return unknownServer{shown, errors.New("it is not the one that the address names")}
	}
	between := x509.NewCertPool()
	for _, one := range s.PeerCertificates[1:] {
		between.AddCert(one)
	}
	_, err := s.PeerCertificates[0].Verify(x509.VerifyOptions{DNSName: host, Intermediates: between})
	if err != nil {
		return unknownServer{shown, err}
	}
	return nil
}

// refused words why there is no line that shows nothing to anybody; nil where that is not why.
func (t *Team) refused(err error) error {
	var server unknownServer
	switch {
	case errors.As(err, &server):
		return fault.NewAs(fault.UnknownServer, fault.NeedsConfirmation, "the certificate of the ledger's database is not "+
			"known: "+
			server.because.Error(), t.address, fmt.Sprintf("When its SHA-256 is %s, write that into the address: "+
			"?certificate=%s", server.shown, server.shown))
	case err != nil && strings.Contains(err.Error(), "server refused TLS connection"):
		return fault.NewAs(fault.UnknownServer, fault.NeedsConfirmation, "the ledger's database does not encrypt", t.address,
			"Have it do so (docs/team.md); or, where nobody else can stand in between, write ?sslmode=disable into the address.")
	case err != nil && strings.Contains(err.Error(), "authentication method"):
		return fault.NewAs(fault.UnknownServer, fault.NeedsConfirmation, "the ledger's database wants the password in a "+
			"way that "+
			"shows it", t.address, "It was not sent. Have its users' passwords kept with scram-sha-256 (password_encryption); "+
			"when it does already, somebody else answers in its place.").Wrap(err)
	}
	return nil
}
