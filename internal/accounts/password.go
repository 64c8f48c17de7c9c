package accounts

import (
	"context"
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

// SetPassword keeps another password, once it was seen to sign in.
func (k *Keeper) SetPassword(ctx context.Context, a *account.Account, c Credential, password secret.Text) error {
	before, err := k.Book.Vault.Get(c.entry)
	known := err == nil
	if err := k.Book.Vault.Set(map[string]secret.Text{c.entry: password}); err != nil {
		return err
	}
	k.Let(a.Name)
	if err := k.Try(ctx, a, c); err != nil {
		if known { // it is as it was
			k.Let(a.Name)
			if back := k.Book.Vault.Set(map[string]secret.Text{c.entry: before}); back != nil {
				return fault.New(fault.Incomplete, "the password that was kept before could not be put back", c.Of,
					"Give it again: "+fault.Call("account", "password", a.Name)).Wrap(back)
			}
		}
		return err
	}
	return nil
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
