package site

import (
	"context"
	"errors"
	"os"
	"strings"

	"tivset/internal/records/ledger"
	"tivset/internal/secret"
)

// saveSite records what has become of a site, which settles the job.
type saveSite struct {
	*env   `json:"-"`
	Before ledger.Site `json:"before"`
	after  func(context.Context) (ledger.Site, error)
}

func (*saveSite) Kind() string  { return "save-site" }
func (*saveSite) Title() string { return "Record the site" }
func (*saveSite) Settles() bool { return true }

func (s *saveSite) Do(ctx context.Context) error {
	now, err := s.after(ctx)
	if err != nil {
		return err
	}
	if len(s.checks) > 0 {
		at := s.Now().UTC()
		now.CheckedAt = &at
	}
	return s.Ledger.PutSite(ctx, now)
}

func (s *saveSite) Undo(ctx context.Context) error { return s.Ledger.PutSite(ctx, s.Before) }

// swapSecrets puts other passwords and keys in the place of a site's, which are
// kept in the vault until the job is over.
type swapSecrets struct {
	*env   `json:"-"`
	Prefix string `json:"prefix"`
	Kept   string `json:"kept"` // where the former ones are, in the vault

	secrets map[string]secret.Text // by their names below the prefix
}

func (*swapSecrets) Kind() string  { return "swap-secrets" }
func (*swapSecrets) Title() string { return "Keep passwords in the vault" }

// keptSecrets is where a job keeps the former secrets.
func keptSecrets(job string) string { return "kept/" + job + "/" }

// keptMark says that all of them are kept.
const keptMark = "all"

func (s *swapSecrets) Do(context.Context) error {
	if err := s.copy(s.Prefix, s.Kept, secret.Of("kept")); err != nil {
		return err
	}
	named := map[string]secret.Text{}
	for name, v := range s.secrets {
		named[s.Prefix+name] = v
	}
	return s.Vault.Set(named)
}

// copy copies the secrets below one name to another, all or none, and with a
// mark where one is given.
func (s *swapSecrets) copy(from, to string, mark secret.Text) error {
	names, err := s.Vault.Names(from)
	if err != nil {
		return err
	}
	all := map[string]secret.Text{}
	if !mark.Empty() {
		all[to+keptMark] = mark
	}
	for _, name := range names {
		below := strings.TrimPrefix(name, from)
		if below == keptMark {
			continue
		}
		if all[to+below], err = s.Vault.Get(name); err != nil {
			return err
		}
	}
	return s.Vault.Set(all)
}

func (s *swapSecrets) Undo(context.Context) error {
	kept, err := s.Vault.Names(s.Kept + keptMark)
	if err != nil || len(kept) == 0 {
		return err
	}
	if err := s.Vault.Forget(s.Prefix); err != nil {
		return err
	}
	if err := s.copy(s.Kept, s.Prefix, secret.Text{}); err != nil {
		return err
	}
	return s.Vault.Forget(s.Kept)
}

// forgetKept drops what this machine kept for the undo of a job.
func (e *env) forgetKept(job string) error {
	err := os.Remove(e.keptData(job))
	if os.IsNotExist(err) {
		err = nil
	}
	return errors.Join(err, e.Vault.Forget(keptSecrets(job)))
}
