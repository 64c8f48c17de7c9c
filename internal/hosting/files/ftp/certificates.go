package ftp

import (
	"bufio"
	"context"
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

// Certificates decides whether a server's certificate will do: because it
// verifies, or because its fingerprint was accepted once and kept.
type Certificates struct {
	Own   string         // the file of accepted ones; a line each: host:port SHA256:…
	Roots *x509.CertPool // nil for the system's
}

// fingerprint of a certificate, as openssl x509 -fingerprint -sha256 shows it.
func fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	return "SHA256:" + strings.ReplaceAll(fmt.Sprintf("% X", sum[:]), " ", ":")
}

// check makes the judge of the connections to a server.
func (c *Certificates) check(l Login, host string) func(tls.ConnectionState) error {
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
				What: "the FTP server's certificate has changed", Where: address,
				Details: []string{"it shows " + print, "accepted was " + kept},
				Remedy: "Somebody may be listening in. Ask the host; only when they changed it: " +
					fault.Call("account", "trust", l.Account, print)}
		}
		return &fault.Error{Kind: fault.NeedsConfirmation, Code: fault.UnknownServer,
			What: "the FTP server's certificate does not verify: " +
				inWords(reason, shown), Where: address, Details: []string{print},
			Remedy: "Ask the host for its fingerprint; when it is this one, accept it: " +
				fault.Call("account", "trust", l.Account, print)}
	}
}

func (c *Certificates) verify(chain []*x509.Certificate, host string) error {
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
func (c *Certificates) kept(address string) (string, error) {
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

// Trust keeps the certificate that a server shows now. It must have the
// fingerprint (SHA256:…); with "" nothing is kept. It returns the fingerprint
// that was shown.
func (c *Certificates) Trust(ctx context.Context, address, print string) (shown string, err error) {
	seen := &Certificates{Own: os.DevNull, Roots: x509.NewCertPool()}
	_, err = connect(ctx, Login{Address: address, TLS: true}, seen)
	var known *fault.Error
	if !errors.As(err, &known) {
		return "", fault.NewAs(fault.NoAnswer, fault.Failed, "the FTP server does not answer", address,
			"Check the address and the port of files: in the account.").Wrap(err)
	}
	if known.Kind != fault.NeedsConfirmation || len(known.Details) == 0 {
		return "", err
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
	_, err = fmt.Fprintln(file, address, shown)
	return shown, errors.Join(err, file.Close())
}
