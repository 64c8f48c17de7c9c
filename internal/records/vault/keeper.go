package vault

import "tivset/internal/secret"

// Keeper is a vault as those see it who keep the secrets of sites and accounts in it.
type Keeper interface {
	// Get returns a secret; fs.ErrNotExist when there is none of that name.
	Get(name string) (secret.Text, error)

	// Names lists the names directly below a prefix, Under all that begin with it; sorted.
	Names(prefix string) ([]string, error)
	Under(prefix string) ([]string, error)

	// Set keeps secrets, all or none, replacing those of the same names; Forget drops those directly
	// below a prefix, all or none.
	Set(secrets map[string]secret.Text) error
	Forget(prefix string) error

	// Seal encrypts the secrets directly below a prefix for who may open this vault; Unseal opens that.
	Seal(prefix string) ([]byte, error)
	Unseal(sealed []byte) (map[string]secret.Text, error)

	// Key makes a checksum of a text that nobody can make without this vault.
	Key(text []byte) ([]byte, error)
}

var _ Keeper = (*Vault)(nil)
