package site

import (
	"fmt"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/notify/mail"
)

// MailServer is what the account's mails are handed to, with the password out of the vault. The account
// has one.
func (b *Book) MailServer(a *account.Account) (mail.Server, error) {
	s := mail.Server{Address: a.Mail.Server, User: a.Mail.User}
	if a.Mail.Password == "" {
		return s, nil
	}
	name, ok := strings.CutPrefix(a.Mail.Password, "vault:")
	if !ok {
		return s, fault.New(fault.Usage, "the password of the mail server is not in the vault", a.Mail.Server,
			"Give it again: "+fault.Call("account", "password", a.Name))
	}
	password, err := b.Vault.Get(name)
	if err != nil {
		return s, fmt.Errorf("the password of the mail server %s: %w", a.Mail.Server, err)
	}
	s.Password = password.Reveal()
	return s, nil
}
