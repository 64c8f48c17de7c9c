package accounts

import (
	"context"
	"errors"
	"strings"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/secret"
)

// What an account has passwords for.
const (
	OfFiles = "files"
	OfMail  = "mail"
)

// Credential is a user of an account whose password is kept.
type Credential struct {
	Of    string // files, mail, or the name of a database server
	User  string
	At    string // the server
	entry string // of the vault
}

// Credentials lists those of an account.
func Credentials(a *account.Account) (out []Credential) {
	entry := func(of, user, at, password string) {
		if name, ok := strings.CutPrefix(password, "vault:"); ok {
			out = append(out, Credential{of, user, at, name})
		}
	}
	if r := a.Remote(); r != nil && a.Login != nil {
		entry(OfFiles, r.User, r.Address, a.Login.Password)
	}
	for _, d := range a.Databases {
		if d.Admin != nil {
			entry(d.Name, d.Admin.User, d.Server, d.Admin.Password)
		}
	}
	if a.Mail != nil {
		entry(OfMail, a.Mail.User, a.Mail.Server, a.Mail.Password)
	}
	return out
}

// SetPassword keeps another password, once it was seen to sign in. Until then it has an entry of its own: whatever ends
// the try, what is kept is as it was.
func (k *Keeper) SetPassword(ctx context.Context, a *account.Account, c Credential, password secret.Text) (err error) {
	drafts := a.Name + ".draft/"
	tried := Credential{c.Of, c.User, c.At, drafts + c.Of}
	if err := k.Book.Vault.Set(map[string]secret.Text{tried.entry: password}); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, k.Book.Vault.Forget(drafts)) }()
	k.Let(a.Name)
	defer k.Let(a.Name)
	if err := k.Try(ctx, pointing(a, tried), tried); err != nil {
		return err
	}
	return k.Book.Vault.Set(map[string]secret.Text{c.entry: password})
}

// pointing is an account that has one of its passwords from another entry of the vault.
func pointing(a *account.Account, c Credential) *account.Account {
	out, reference := *a, "vault:"+c.entry
	switch c.Of {
	case OfFiles:
		login := *a.Login
		login.Password = reference
		out.Login = &login
	case OfMail:
		mail := *a.Mail
		mail.Password = reference
		out.Mail = &mail
	}
	return &out // of a database server the entry itself is asked for
}

// Try signs in with what is kept.
func (k *Keeper) Try(ctx context.Context, a *account.Account, c Credential) error {
	switch c.Of {
	case OfFiles:
		in, err := k.Hosting.Open(ctx, a)
		if err != nil {
			return err
		}
		return in.Close()
	case OfMail:
		server, err := k.Book.MailServer(a)
		if err != nil {
			return err
		}
		return TryMail(ctx, server)
	}
	for _, d := range a.Databases {
		if d.Name == c.Of {
			password, err := k.Book.Vault.Get(c.entry)
			if err != nil {
				return err
			}
			_, _, err = k.TryServer(ctx, a, d, database.Login{Server: d.Server, User: c.User, Password: password})
			return err
		}
	}
	return fault.New(fault.Usage, "the account has no database server of this name", c.Of, "")
}
