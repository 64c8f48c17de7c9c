package wizard

import (
	"cmp"
	"context"
	"net"
	"strings"

	"tivset/internal/accounts"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/notify/mail"
)

// Ports at which a mail server wants to know who sends (RFC 6409, RFC 8314).
const (
	submission = "587"
	implicit   = "465"
)

// mail asks for the server through which the owner is told of things, and tries it.
func (c *NewAccount) mail(ctx context.Context) error {
	if c.mailed {
		return nil
	}
	s, err := c.mailServer(ctx)
	if err != nil {
		return err
	}
	c.mailed, c.account.Mail = true, nil
	if s.Address == "" {
		c.Ask.Note("  Without one nobody is told by mail of what needs somebody; the list of sites says it.")
		return nil
	}
	for {
		err := accounts.TryMail(ctx, s)
		if err == nil {
			break
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		f := fault.Of(err)
		c.Ask.Refuse(f.What+": "+s.Address, cmp.Or(f.Remedy, "Type the password again."))
		if !refused(err) {
			c.Ask.Note("  No mails are sent until the account has a mail server that answers.")
			return nil
		}
		s.Password, err = c.question(ctx, Prompt{Text: "Password of " + s.User + " (nothing: no mails)", Unseen: true})
		if err != nil || s.Password == "" {
			return err
		}
	}
	c.Ask.Good(s.Address + " answers")
	from := s.User
	if !strings.Contains(from, "@") {
		from = "hosting@" + c.account.Domains[0].Name
	}
	c.account.Mail = &account.Mail{Server: s.Address, From: from, User: s.User}
	if s.Password != "" {
		c.account.Mail.Password = "plain:" + s.Password
	}
	return nil
}

// mailServer is what the mail of the host names, or else what is asked for; with an empty address for
// none. A user is asked for where servers want one.
func (c *NewAccount) mailServer(ctx context.Context) (s mail.Server, err error) {
	said := c.Letter.Mail
	s = mail.Server{Address: said.Server(), User: said.User, Password: said.Password}
	if s.Address == "" {
		usual := emptied
		if c.Accounts.OwnMail {
			usual = account.OwnMail
		}
		if c.hosted && usual == emptied { // the review has a line for it
			return s, nil
		}
		s.Address, err = c.question(ctx, Prompt{Text: "Mail server (- for none)", Fallback: usual,
			Help: "Through it Tivset tells you by mail what was updated and what needs you, and mails the page of a site. As " +
				"host:587 or host:465 for one at which you sign in, such as that of your own mailbox; as host:25 for one that " +
				"takes mail from here without; sendmail for this machine's own."})
		if err != nil {
			return s, err
		}
	}
	switch s.Address {
	case emptied:
		return mail.Server{}, nil
	case account.OwnMail:
		return s, nil
	}
	_, port, split := net.SplitHostPort(s.Address)
	if split != nil {
		port = "25"
		if s.User != "" {
			port = submission
		}
		s.Address = net.JoinHostPort(s.Address, port)
	}
	if s.User == "" && (port == submission || port == implicit) {
		s.User, err = c.question(ctx, Prompt{Text: "User of the mail server (may stay empty)",
			Help: "Who signs in there: mostly the whole e-mail address of a mailbox."})
		if err != nil {
			return s, err
		}
	}
	if s.User != "" && s.Password == "" {
		s.Password, err = c.question(ctx, Prompt{Text: "Password of " + s.User, Unseen: true,
			Help: "It is kept in the vault, encrypted."})
	}
	return s, err
}
