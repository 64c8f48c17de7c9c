package accounts

import (
	"context"
	"os"
	"slices"
	"strings"
	"time"

	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/secret"
	"tivset/internal/site"
)

// Keeper keeps accounts. All of its fields are given by whoever wires the
// program.
type Keeper struct {
	Book    *site.Book
	Hosting *hosting.Opener
	Maker   secret.Maker
	Now     func() time.Time
	Systemd Systemd
	OwnMail bool                 // this machine hands on mails by itself
	Let     func(account string) // ends what is open of an account whose description changed

	// Crontab runs this machine's crontab(1); its error holds what it said.
	Crontab func(ctx context.Context, input string, args ...string) ([]byte, error)
}

// Add keeps an account from the text of its file; passwords in it move
// into the vault. Env looks a variable of the environment up.
func (k *Keeper) Add(name string, text []byte, replace bool, env func(string) string) (*account.Account, error) {
	a, err := account.Parse(text)
	if err != nil {
		return nil, err
	}
	if a.Name != name {
		return nil, fault.New(fault.Usage, "the file is for the account "+a.Name, name, "Use the same name in both places.")
	}
	have, err := k.Book.Home.Accounts()
	if err != nil {
		return nil, err
	}
	if !replace && slices.Contains(have, name) {
		return nil, fault.New(fault.NeedsConfirmation, "an account of this name is kept already", name,
			"Add --replace to take the new file instead.")
	}
	secrets := map[string]secret.Text{}
	for i := range a.Databases {
		d := &a.Databases[i]
		if d.Admin != nil {
			if err := intoVault(&d.Admin.Password, a.Name+"/"+d.Name, secrets, env); err != nil {
				return nil, err
			}
		}
		for n := range d.Given {
			g := &d.Given[n]
			if err := intoVault(&g.Password, a.Name+"/"+d.Name+"/"+g.Name, secrets, env); err != nil {
				return nil, err
			}
		}
	}
	if l := a.Login; l != nil {
		if err := intoVault(&l.Password, a.Name+"/login", secrets, env); err != nil {
			return nil, err
		}
		if err := intoVault(&l.Passphrase, a.Name+"/passphrase", secrets, env); err != nil {
			return nil, err
		}
	}
	if m := a.Mail; m != nil {
		if err := intoVault(&m.Password, a.Name+"/mail", secrets, env); err != nil {
			return nil, err
		}
	}
	if err := k.Book.Vault.Set(secrets); err != nil {
		return nil, err
	}
	return a, k.Book.Home.PutAccount(a)
}

// intoVault replaces a password by the name of its vault entry.
func intoVault(password *string, entry string, secrets map[string]secret.Text, env func(string) string) error {
	if *password == "" {
		return nil
	}
	how, what, _ := strings.Cut(*password, ":")
	switch how {
	case "vault":
		return nil
	case "plain":
		secrets[entry] = secret.Of(what)
	case "env":
		if env(what) == "" {
			return fault.New(fault.Usage, "the variable "+what+" is not set", "password of "+entry, "Set it, or use file:PATH.")
		}
		secrets[entry] = secret.Of(env(what))
	case "file":
		text, err := os.ReadFile(what)
		if err != nil {
			return fault.New(fault.Usage, "the password's file cannot be read", what, "Correct the path.").Wrap(err)
		}
		secrets[entry] = secret.Of(strings.TrimRight(string(text), "\r\n"))
	default:
		return fault.New(fault.Usage, "the password of "+entry+" does not say where it is", "",
			"Write plain:…, file:PATH, env:NAME or vault:NAME.")
	}
	*password = "vault:" + entry
	return nil
}

// Forget drops an account and its passwords. Sites of it stay recorded
// and so it is refused while there are any; addresses that lead to where sites
// moved go on doing so, and are known no more.
func (k *Keeper) Forget(ctx context.Context, name string) error {
	if _, err := k.Book.Home.Account(name); err != nil {
		return err
	}
	sites, err := k.Book.Ledger.Sites(ctx)
	if err != nil {
		return err
	}
	for _, x := range sites {
		if x.Account == name {
			return fault.New(fault.NeedsConfirmation, "the account has sites", x.Address,
				"Nothing can look after them without the account; it is kept.")
		}
	}
	leading, err := k.Book.Ledger.Redirects(ctx)
	if err != nil {
		return err
	}
	for _, r := range leading {
		if r.Account != name {
			continue
		}
		if err := k.Book.Ledger.DropRedirect(ctx, r.Address); err != nil {
			return err
		}
	}
	if err := k.Book.Vault.Forget(name + "/"); err != nil {
		return err
	}
	return k.Book.Home.ForgetAccount(name)
}
