// Package certificates decides whether a server's certificate (X.509, RFC 5280) will do: because it verifies, or
// because its fingerprint was accepted once and kept, as the keys of SSH servers are.
package certificates

import (
	"bufio"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"tivset/internal/fault"
)

// Known are the certificates that will do.
type Known struct {
	Own   string         // the file of accepted ones; a line each: host:port SHA256:…
	Roots *x509.CertPool // nil for the system's
}

// fingerprint of a certificate, as openssl x509 -fingerprint -sha256 shows it.
func fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return "SHA256:" + strings.ReplaceAll(fmt.Sprintf("% X", sum[:]), " ", ":")
}

// Server is one whose certificate is judged.
type Server struct {
	What     string // FTP server, database server
	Address  string // host:port, under which its certificate is kept
	Account  string // whose it is, to say what to do
	Database string // the name that the account has for it; "" where it is no database server
}

// accept is the call that accepts a certificate.
func (s Server) accept(print string) string {
	if s.Database != "" {
		return fault.Call("account", "trust", s.Account, print, "--database", s.Database)
	}
	return fault.Call("account", "trust", s.Account, print)
}

// Judge judges the connections to a server, which is called host: crypto/tls asks it after the handshake.
func (c *Known) Judge(l Server, host string) func(tls.ConnectionState) error {
	address := l.Address
	return func(s tls.ConnectionState) error {
		shown := s.PeerCertificates[0]
		reason := c.verify(s.PeerCertificates, host)
		if reason == nil {
			return nil
		}
		kept, err := c.kept(address)
		if err != nil {
			return err
		}
		print := fingerprint(shown)
		switch {
		case kept == print:
			return nil
		case kept != "":
			return &fault.Error{Kind: fault.Failed, Code: fault.UnknownServer,
				What: "the " + l.What + "'s certificate has changed", Where: address,
				Details: []string{"it shows " + print, "accepted was " + kept},
				Remedy: "Somebody may be listening in. Ask the host; only when they changed it: " +
					l.accept(print)}
		}
		return &fault.Error{Kind: fault.NeedsConfirmation, Code: fault.UnknownServer,
			What: "the " + l.What + "'s certificate does not verify: " +
				inWords(reason, shown), Where: address, Details: []string{print},
			Remedy: "Ask the host for its fingerprint; when it is this one, accept it: " +
				l.accept(print)}
	}
}

func (c *Known) verify(chain []*x509.Certificate, host string) error {
	between := x509.NewCertPool()
	for _, i := range chain[1:] {
		between.AddCert(i)
	}
	_, err := chain[0].Verify(x509.VerifyOptions{DNSName: host, Roots: c.Roots, Intermediates: between})
	return err
}

// inWords says in few words why a certificate does not verify.
func inWords(err error, c *x509.Certificate) string {
	var invalid x509.CertificateInvalidError
	var other x509.HostnameError
	switch {
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired && time.Now().After(c.NotAfter):
		return "it expired on " + c.NotAfter.Format("2 January 2006")
	case errors.As(err, &other):
		names := append(append([]string{}, c.DNSNames...), ips(c.IPAddresses)...)
		if len(names) == 0 {
			names = []string{c.Subject.CommonName}
		}
		return "it is for " + strings.Join(names, ", ")
	}
	return "nobody whom this machine trusts has signed it"
}

func ips(all []net.IP) (out []string) {
	for _, ip := range all {
		out = append(out, ip.String())
	}
	return out
}

// kept gives the fingerprint accepted last for a server, or "".
func (c *Known) kept(address string) (string, error) {
	file, err := os.Open(c.Own)
	if errors.Is(err, os.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	defer file.Close()
	found := ""
	for scan := bufio.NewScanner(file); scan.Scan(); {
		if server, print, _ := strings.Cut(scan.Text(), " "); server == address {
			found = print
		}
	}
	return found, nil
}

// Seeing is what no certificate satisfies: whoever connects with it hears in the error what the server shows.
func Seeing() *Known { return &Known{Own: os.DevNull, Roots: x509.NewCertPool()} }

// Accept keeps the certificate that a server shows, as the error of a connection with Seeing has it. It must have the
// fingerprint (SHA256:…); with "" nothing is kept. It returns the fingerprint that was shown.
func (c *Known) Accept(server Server, seen error, print string) (shown string, err error) {
	var known *fault.Error
	if !errors.As(seen, &known) || known.Code != fault.UnknownServer {
		return "", fault.NewAs(fault.NoAnswer, fault.Failed, "the "+server.What+" does not answer, or shows no certificate",
			server.Address, "Check its address and port in the account.").Wrap(seen)
	}
	if known.Kind != fault.NeedsConfirmation || len(known.Details) == 0 {
		return "", seen
	}
	shown = known.Details[0]
	if print == "" {
		return shown, nil
	}
	if print != shown {
		return shown, fault.NewAs(fault.UnknownServer, fault.NeedsConfirmation, "the server shows another certificate", shown,
			"Compare it with what the host says. Nothing was accepted.")
	}
	if err := os.MkdirAll(filepath.Dir(c.Own), 0o700); err != nil {
		return shown, err
	}
	file, err := os.OpenFile(c.Own, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return shown, err
	}
	_, err = fmt.Fprintln(file, server.Address, shown)
	return shown, errors.Join(err, file.Close())
}
