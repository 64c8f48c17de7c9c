// Package mail sends plain text mails over SMTP (RFC 5321), with TLS where the
// server offers it (RFC 3207).
package mail

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"time"

	gomail "github.com/wneessen/go-mail"
)

// sendTime is how long sending may take in all.
const sendTime = 30 * time.Second

// Message is a mail to send.
type Message struct {
	From, To string // addresses
	Subject  string
	Text     string
	HTML     string // the same as a page; may be empty
}

// Send hands a mail to the server at host:port.
func Send(ctx context.Context, server string, m Message) error {
	host, port, err := net.SplitHostPort(server)
	if err != nil {
		return fmt.Errorf("the mail server %s is not host:port", server)
	}
	number, err := strconv.Atoi(port)
	if err != nil {
		return fmt.Errorf("the mail server %s is not host:port", server)
	}
	message := gomail.NewMsg(gomail.WithNoDefaultUserAgent())
	if err := message.From(m.From); err != nil {
		return fmt.Errorf("the sender's address %s: %w", m.From, err)
	}
	if err := message.To(m.To); err != nil {
		return fmt.Errorf("the address %s: %w", m.To, err)
	}
	message.Subject(m.Subject)
	message.SetBodyString(gomail.TypeTextPlain, m.Text)
	if m.HTML != "" {
		message.AddAlternativeString(gomail.TypeTextHTML, m.HTML)
	}
	client, err := gomail.NewClient(host, gomail.WithTLSPolicy(gomail.TLSOpportunistic), gomail.WithPort(number),
		gomail.WithTimeout(sendTime))
	if err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, sendTime)
	defer cancel()
	return client.DialAndSendWithContext(ctx, message)
}
