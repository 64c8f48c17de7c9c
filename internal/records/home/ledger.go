package home

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"go.yaml.in/yaml/v3"

	"tivset/internal/atomicfile"
	"tivset/internal/fault"
)

// LedgerAt says where the ledger is, when it is not a file of this machine.
type LedgerAt struct {
	Format int    `yaml:"ledger"` // 1
	Use    string `yaml:"use"`    // postgres://…, with the password; "" for the file
	As     string `yaml:"as"`     // what this machine is called there
	Team   string `yaml:"team"`   // the fingerprint of the team, as it was compared here
}

func (h Home) ledgerAt() string { return filepath.Join(h.Config, "ledger.yaml") }

// LedgerAt reads where the ledger is; the zero value for a file of this machine.
func (h Home) LedgerAt() (at LedgerAt, err error) {
	text, err := os.ReadFile(h.ledgerAt())
	if errors.Is(err, fs.ErrNotExist) {
		return at, nil
	}
	if err == nil {
		err = yaml.Unmarshal(text, &at)
	}
	if err == nil && at.Format != 1 {
		err = fmt.Errorf("it has format %d", at.Format)
	}
	if err != nil {
		return at, fault.New(fault.Usage, "it cannot be read where the ledger is", h.ledgerAt(),
			"Put the file back as it was, or take it away when the ledger is on this machine.").Wrap(err)
	}
	return at, nil
}

// KeepLedgerAt notes where the ledger is, readable to its owner only.
func (h Home) KeepLedgerAt(at LedgerAt) error {
	if at.Use == "" {
		err := os.Remove(h.ledgerAt())
		if errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
		return err
	}
	at.Format = 1
	text, err := yaml.Marshal(at)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(h.Config, 0o700); err != nil {
		return err
	}
	return atomicfile.Write(h.ledgerAt(), text, 0o600)
}

// SetAsideRecords gives the records of this machine other names, beside the old ones, when
// they have been brought elsewhere: nobody is to go on with them.
func (h Home) SetAsideRecords(now time.Time) error {
	ending := ".moved-" + now.UTC().Format("20060102-150405")
	for _, name := range []string{h.Ledger(), h.Vault(), h.Journals(), h.accounts()} {
		if err := os.Rename(name, name+ending); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	return nil
}
