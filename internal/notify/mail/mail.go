// Package mail sends plain text mails: over SMTP (RFC 5321), with TLS where the server offers it (RFC
// 3207), as somebody who signs in (submission, RFC 6409, with TLS always; RFC 8314 for port 465), or by
// this machine's own sendmail(8).
package mail

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/textproto"
	"os"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"
)

// sendTime is how long sending may take in all.
const sendTime = 30 * time.Second

// Own is the address of this machine's own sendmail.
const Own = "sendmail"

// Server is what mails are handed to.
type Server struct {
	Address  string         // host:port, or Own
	User     string         // who signs in; "" for nobody
	Password string         // never sent without TLS
	Roots    *x509.CertPool // whose certificates are trusted; nil for the system's
}

// Message is a mail to send.
type Message struct {
	ID       string // what stands before the @ of its Message-ID (RFC 5322, 3.6.4); made up where it is empty
	From, To string // addresses
	Subject  string
	Text     string
	HTML     string // the same as a page; may be empty
}

// sendmails is where that program stands (Filesystem Hierarchy Standard, 4.7).
var sendmails = []string{"/usr/sbin/sendmail", "/usr/lib/sendmail"}

// Sendmail is the program that hands on mails of this machine; "" where there is none.
func Sendmail() string {
	for _, name := range sendmails {
		if info, err := os.Stat(name); err == nil && info.Mode()&0o111 != 0 {
			return name
		}
	}
	return ""
}

// Send hands a mail to a server.
func Send(ctx context.Context, s Server, m Message) error {
	message, err := m.message()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, sendTime)
	defer cancel()
	if s.Address == Own {
		program := Sendmail()
		if program == "" {
			return fmt.Errorf("this machine has no %s", Own)
		}
		return message.WriteToSendmailWithContext(ctx, program, "-oi", "-t")
	}
	client, err := s.client()
	if err != nil {
		return err
	}
	return client.DialAndSendWithContext(ctx, message)
}

// Try signs in to a server, or hears its greeting, and sends nothing.
func Try(ctx context.Context, s Server) error {
	if s.Address == Own {
		if Sendmail() == "" {
			return fmt.Errorf("this machine has no %s", Own)
		}
		return nil
	}
	client, err := s.client()
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, sendTime)
	defer cancel()
	if err := client.DialWithContext(ctx); err != nil {
		return err
	}
	return client.Close()
}

// client is who talks to a server. A password goes nowhere without TLS.
func (s Server) client() (*gomail.Client, error) {
	host, port, err := net.SplitHostPort(s.Address)
	if err != nil {
		return nil, fmt.Errorf("the mail server %s is not host:port", s.Address)
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return nil, fmt.Errorf("the mail server %s is not host:port", s.Address)
	}
	options := []gomail.Option{gomail.WithPort(number), gomail.WithTimeout(sendTime),
		gomail.WithTLSPolicy(gomail.TLSOpportunistic)}
	if s.User != "" {
		options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory), gomail.WithSMTPAuth(
			gomail.SMTPAuthAutoDiscover), gomail.WithUsername(s.User), gomail.WithPassword(s.Password))
	}
	const implicit = 465
	if number == implicit {
		options = append(options, gomail.WithSSL())
	}
	if s.Roots != nil {
		options = append(options, gomail.WithTLSConfig(&tls.Config{ServerName: host, RootCAs: s.Roots,
			MinVersion: tls.VersionTLS12}))
	}
	return gomail.NewClient(host, options...)
}

func (m Message) message() (*gomail.Msg, error) {
	message := gomail.NewMsg(gomail.WithNoDefaultUserAgent())
	if err := message.From(m.From); err != nil {
		return nil, fmt.Errorf("the sender's address %s: %w", m.From, err)
	}
	if err := message.To(m.To); err != nil {
		return nil, fmt.Errorf("the address %s: %w", m.To, err)
	}
	if _, host, found := strings.Cut(m.From, "@"); found && m.ID != "" {
		message.SetMessageIDWithValue(m.ID + "@" + strings.TrimSuffix(host, ">"))
	}
	message.Subject(m.Subject)
	message.SetBodyString(gomail.TypeTextPlain, m.Text)
	if m.HTML != "" {
		message.AddAlternativeString(gomail.TypeTextHTML, m.HTML)
	}
	return message, nil
}

// Refused says whether a server refused who signs in (RFC 4954, 6: 534, 535, 538).
func Refused(err error) bool {
	var said *textproto.Error
	if errors.As(err, &said) {
		return said.Code >= 534 && said.Code <= 538
	}
	return false
}
