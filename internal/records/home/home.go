// Package home knows where Tivset keeps its own files, and keeps the accounts
// and the list of catalogues there.
package home

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/adrg/xdg"
	"go.yaml.in/yaml/v3"

	"tivset/internal/atomicfile"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/suggest"
)

// Home is the set of folders.
type Home struct {
	Config string // accounts, catalogues, the vault's key
	Data   string // ledger and vault
	State  string // journals
	Cache  string // archives

	Shared Accounts // where several machines share the accounts; nil for files of this one
}

// Accounts keeps accounts where several machines share them, each as its file.
type Accounts interface {
	Names() ([]string, error)
	Read(name string) ([]byte, error) // fs.ErrNotExist where there is none
	Write(name string, file []byte) error
	Drop(name string) error // none there is fine
}

// At puts all folders below one: what TIVSET_HOME does.
func At(folder string) Home {
	in := func(name string) string { return filepath.Join(folder, name) }
	return Home{Config: in("config"), Data: in("data"), State: in("state"), Cache: in("cache")}
}

// Usual gives the folders of the XDG Base Directory Specification.
func Usual() Home {
	in := func(base string) string { return filepath.Join(base, "tivset") }
	return Home{Config: in(xdg.ConfigHome), Data: in(xdg.DataHome), State: in(xdg.StateHome), Cache: in(xdg.CacheHome)}
}

// Ledger, Vault, VaultKey, SigningKey (of this machine, by which a team knows it), Journals and Archives name files and
// folders.
func (h Home) Ledger() string     { return filepath.Join(h.Data, "ledger.db") }
func (h Home) Vault() string      { return filepath.Join(h.Data, "vault.age") }
func (h Home) VaultKey() string   { return filepath.Join(h.Config, "vault.key") }
func (h Home) SigningKey() string { return filepath.Join(h.Config, "signing.key") }
func (h Home) Journals() string   { return filepath.Join(h.State, "journals") }
func (h Home) Logs() string       { return h.Journals() } // each stays on the machine that ran its job
func (h Home) KnownHosts() string { return filepath.Join(h.Config, "known_hosts") }

// JobLog is the file with the log of a job.
func (h Home) JobLog(id string) string { return filepath.Join(h.Logs(), id+".log") }

// KnownCertificates is the file of the FTP servers' certificates that were
// accepted though they do not verify.
func (h Home) KnownCertificates() string { return filepath.Join(h.Config, "known_certificates") }

// Backups holds what was there before something was put back over it, as
// backups.
func (h Home) Backups() string { return filepath.Join(h.Data, "backups") }

func (h Home) Archives() string { return filepath.Join(h.Cache, "archives") }

// Shelf is the folder in which a published catalogue is kept.
func (h Home) Shelf(name string) string { return filepath.Join(h.Data, "catalogues", name) }

// KitNotes is the file in which is noted what kits in folders told.
func (h Home) KitNotes() string { return filepath.Join(h.Cache, "kits.json") }

// Debian is the folder in which the owner may name Debian archives, as apt has them
// (sources.list(5)); DebianSources is the file.
func (h Home) Debian() fs.FS         { return os.DirFS(h.Config) }
func (h Home) DebianSources() string { return filepath.Join(h.Config, "sources.list") }

func (h Home) accounts() string { return filepath.Join(h.Config, "accounts") }

func (h Home) accountFile(name string) string { return filepath.Join(h.accounts(), name+".yaml") }

// Accounts lists the names of the accounts, sorted.
func (h Home) Accounts() ([]string, error) {
	if h.Shared != nil {
		return h.Shared.Names()
	}
	files, err := os.ReadDir(h.accounts())
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var names []string
	for _, f := range files {
		if name, ok := strings.CutSuffix(f.Name(), ".yaml"); ok && !strings.HasPrefix(name, ".") {
			names = append(names, name)
		}
	}
	return names, nil
}

// Account reads an account. A name that is not there is a usage fault.
func (h Home) Account(name string) (*account.Account, error) {
	names, err := h.Accounts()
	if err != nil {
		return nil, err
	}
	if !slices.Contains(names, name) {
		remedy := strings.TrimSpace(suggest.Hint(name, names) + " See the accounts with: " + fault.Call("account", "list"))
		return nil, fault.New(fault.Usage, "no account is called "+name, "", remedy)
	}
	text, err := h.AccountFile(name)
	if err != nil {
		return nil, err
	}
	return account.Parse(text)
}

// AccountFile reads an account's file; fs.ErrNotExist where there is none.
func (h Home) AccountFile(name string) ([]byte, error) {
	if h.Shared != nil {
		return h.Shared.Read(name)
	}
	return os.ReadFile(h.accountFile(name))
}

// PutAccount keeps an account, readable to its owner only.
func (h Home) PutAccount(a *account.Account) error {
	text, err := a.Format()
	if err != nil {
		return err
	}
	return h.PutAccountFile(a.Name, text)
}

// PutAccountFile keeps an account's file as it is.
func (h Home) PutAccountFile(name string, text []byte) error {
	if h.Shared != nil {
		return h.Shared.Write(name, text)
	}
	if err := os.MkdirAll(h.accounts(), 0o700); err != nil {
		return err
	}
	return atomicfile.Write(h.accountFile(name), text, 0o600)
}

// ForgetAccount drops an account; none there is fine.
func (h Home) ForgetAccount(name string) error {
	if h.Shared != nil {
		return h.Shared.Drop(name)
	}
	err := os.Remove(h.accountFile(name))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// Catalogues is what catalogues.yaml says.
type Catalogues struct {
	BuiltIn   bool              `yaml:"built-in"` // whether the kits of the program are among them
	Folders   []Folder          `yaml:"folders"`
	Published []Published       `yaml:"published,omitempty"`
	Decided   map[string]string `yaml:"decided,omitempty"` // for apps that several have: which catalogue counts
}

// BuiltInName is what the catalogue of the program's own kits is called.
const BuiltInName = "built-in"

// Names lists the catalogues, in the order in which they are shown.
func (c Catalogues) Names() []string {
	var out []string
	for _, f := range c.Folders {
		out = append(out, f.Name)
	}
	for _, p := range c.Published {
		out = append(out, p.Name)
	}
	if c.BuiltIn {
		out = append(out, BuiltInName)
	}
	return out
}

// Published is a catalogue that somebody signed.
type Published struct {
	Name string `yaml:"name"`
	From string `yaml:"from"` // its https address, or its folder
	Key  string `yaml:"key"`  // the public key that it has to be signed with (minisign, RW…)
}

// Folder is a catalogue in a folder of this machine.
type Folder struct {
	Name   string `yaml:"name"`
	Folder string `yaml:"folder"`
}

func (h Home) cataloguesFile() string { return filepath.Join(h.Config, "catalogues.yaml") }

// Catalogues reads where kits come from; the built-in ones when nothing is said.
func (h Home) Catalogues() (Catalogues, error) {
	c := Catalogues{BuiltIn: true}
	text, err := os.ReadFile(h.cataloguesFile())
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return c, err
	}
	if err := yaml.Unmarshal(text, &c); err != nil {
		return c, fault.New(fault.Usage, "the list of catalogues cannot be read", h.cataloguesFile(),
			"Correct it, or remove it to use the built-in kits.").Wrap(err)
	}
	return c, nil
}

// PutCatalogues keeps where kits come from.
func (h Home) PutCatalogues(c Catalogues) error {
	text, err := yaml.Marshal(c)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(h.Config, 0o700); err != nil {
		return err
	}
	return atomicfile.Write(h.cataloguesFile(), text, 0o600)
}

// Temporary makes a file in the cache that nobody else reads. The caller closes
// it and takes it away.
func (h Home) Temporary() (*os.File, error) {
	folder := filepath.Join(h.Cache, "backups")
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, err
	}
	return os.CreateTemp(folder, "fetched-*")
}
