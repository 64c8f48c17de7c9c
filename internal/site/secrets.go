package site

import (
	"context"
	"errors"
	"io/fs"
	"strings"

	"tivset/internal/answer"
	"tivset/internal/app/fill"
	"tivset/internal/app/kit"
	"tivset/internal/fault"
	"tivset/internal/question"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
)

// The names of a site's secrets in the vault, below its own.
const (
	AdminPassword = answer.AdminPassword
	DataPassword  = answer.DataPassword
)

// VaultName is the vault's name of a site's secret; of all of them with "".
func VaultName(address, name string) string { return inVault + address + "/" + name }

const inVault = "sites/"

// InVault lists the addresses of which the vault has an admin's password.
func (b *Book) InVault() ([]string, error) {
	names, err := b.Vault.Under(inVault)
	var out []string
	for _, name := range names {
		if address, is := strings.CutSuffix(name, "/"+AdminPassword); is {
			out = append(out, strings.TrimPrefix(address, inVault))
		}
	}
	return out, err
}

// KeepMissing keeps secrets of a site of which the vault has none of the name.
func (b *Book) KeepMissing(address string, secrets map[string]secret.Text) error {
	missing := map[string]secret.Text{}
	for name, v := range secrets {
		_, err := b.Vault.Get(VaultName(address, name))
		if errors.Is(err, fs.ErrNotExist) {
			missing[VaultName(address, name)] = v
		} else if err != nil {
			return err
		}
	}
	if len(missing) == 0 {
		return nil
	}
	return b.Vault.Set(missing)
}

// KeptSecrets is where a job keeps secrets that it replaced, in the vault.
func KeptSecrets(job string) string { return "kept/" + job + "/" }

// AskedSecret is the name of the answer to one of the kit's questions.
func AskedSecret(id string) string { return "answer." + id }

// SecretIDs lists the kit's questions whose answers are secret.
func SecretIDs(k *kit.Kit) []string {
	var out []string
	for _, q := range k.Questions {
		if q.Secret {
			out = append(out, q.ID)
		}
	}
	return out
}

// GivenSecrets names the vault's entries that hold secrets among the answers.
func (s *Site) GivenSecrets() []string {
	out := []string{AdminPassword}
	for _, id := range SecretIDs(s.Kit.Kit) {
		if _, given := s.Secrets[AskedSecret(id)]; given {
			out = append(out, AskedSecret(id))
		}
	}
	if s.Data != nil && s.Data.From != question.DataNew {
		out = append(out, DataPassword)
	}
	return out
}

// secretsOf takes a site's secrets from the vault.
func (b *Book) secretsOf(s *Site, address string) (map[string]secret.Text, error) {
	out := map[string]secret.Text{}
	for _, name := range append(s.Kit.VaultNames(), AdminPassword, DataPassword) {
		kept, err := b.Vault.Get(VaultName(address, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out[name] = kept
	}
	return out, nil
}

// NoPassword is the fault of a site whose admin's password is not known here.
func NoPassword(address string) error {
	return fault.New(fault.Usage, "the vault has no password of this site", address,
		"Without it nobody can see whether signing in works. Tell it: "+fault.Call("reveal", address, "--changed")+
			"; or have a new one made: "+fault.Call("reveal", address, "--renew"))
}

// Stale is the fault of a site whose stored password its app refuses. The owner
// may have changed it there; both ways out are named.
func Stale(address string, err error) error {
	f := *fault.Of(err)
	f.Kind = fault.NeedsConfirmation
	f.What = "the stored password of the admin does not sign in any more: " + f.What
	f.Where = address
	f.Remedy = "If it was changed in the app, tell the new one: " + fault.Call("reveal", address, "--changed") +
		"; or have another one made: " + fault.Call("reveal", address, "--renew")
	return &f
}

// Credentials are what somebody needs to sign in.
type Credentials struct {
	Site     ledger.Site
	Password secret.Text // the admin's
	Data     secret.Text // the database user's
	Others   []Other     // keys that were given, and addresses with keys in them
}

// Other is a further secret of a site.
type Other struct {
	Name  string
	Value secret.Text
}

// Reveal reads the secrets of the recorded site that a word means.
func (b *Book) Reveal(ctx context.Context, word string) (Credentials, error) {
	found, err := b.Find(ctx, word)
	if err != nil {
		return Credentials{}, err
	}
	c := Credentials{Site: found}
	c.Password, err = b.Vault.Get(VaultName(found.Address, AdminPassword))
	if err != nil && !errors.Is(err, fs.ErrNotExist) { // the vault itself, which says what is wrong
		return c, err
	}
	if err != nil {
		return c, fault.New(fault.Usage, "the vault has no password of this site", found.Address,
			"Tell it: "+fault.Call("reveal", found.Address, "--changed")+"; or have a new one made: "+
				fault.Call("reveal", found.Address, "--renew")).Wrap(err)
	}
	c.Data, err = b.Vault.Get(VaultName(found.Address, DataPassword))
	if err != nil && !errors.Is(err, fs.ErrNotExist) { // a site without a database has none
		return c, err
	}
	c.Others, err = b.otherSecrets(found)
	return c, err
}

// otherSecrets reads what else the vault keeps of a site, as far as its kit names it.
func (b *Book) otherSecrets(found ledger.Site) ([]Other, error) {
	e, err := b.Catalogue.Find(found.App)
	if err != nil {
		return nil, nil // without the kit nobody knows their names
	}
	var out []Other
	values := fill.Values{"url": found.URL}
	for _, name := range e.VaultNames() {
		kept, err := b.Vault.Get(VaultName(found.Address, name))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		values[name] = kept.Reveal()
		if q := e.Question(strings.TrimPrefix(name, "answer.")); q != nil {
			out = append(out, Other{q.Text, kept})
		}
	}
	for _, t := range e.Timers {
		if page, err := fill.Text(t.Get, values); err == nil && t.Get != "" {
			out = append(out, Other{"Timer, every " + Interval(t.Every), secret.Of(found.URL + page)})
		}
	}
	return out, nil
}

// VaultPrefix is what the names of the site's secrets in the vault begin with.
func (s *Site) VaultPrefix() string { return VaultName(s.Address(), "") }
