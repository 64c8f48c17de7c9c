package step

import (
	"context"
	"strings"

	"tivset/internal/secret"
	"tivset/internal/site"
)

// KeepSecrets puts the site's passwords and keys into the vault.
type KeepSecrets struct {
	*Tools `json:"-"`
	Prefix string `json:"prefix"`
}

// Kind and Title implement job.Step.
func (*KeepSecrets) Kind() string  { return "keep-secrets" }
func (*KeepSecrets) Title() string { return "Keep passwords in the vault" }

// Do keeps them all in one write.
func (k *KeepSecrets) Do(context.Context) error {
	return k.Book.Vault.Set(below(k.Prefix, k.Site.Secrets))
}

// Undo drops them.
func (k *KeepSecrets) Undo(context.Context) error { return k.Book.Vault.Forget(k.Prefix) }

func below(prefix string, secrets map[string]secret.Text) map[string]secret.Text {
	out := make(map[string]secret.Text, len(secrets))
	for name, s := range secrets {
		out[prefix+name] = s
	}
	return out
}

// SwapSecrets puts other passwords and keys in the place of a site's, which are
// kept in the vault until the job is over.
type SwapSecrets struct {
	*Tools `json:"-"`
	Prefix string `json:"prefix"`
	Kept   string `json:"kept"` // where the former ones are, in the vault
}

// SecretsOf puts the job's site's secrets in the place of those that are kept
// for its address.
func SecretsOf(t *Tools) *SwapSecrets {
	return &SwapSecrets{Tools: t, Prefix: site.VaultName(t.Site.Address(), ""), Kept: site.KeptSecrets(t.Job)}
}

// Kind and Title implement job.Step.
func (*SwapSecrets) Kind() string  { return "swap-secrets" }
func (*SwapSecrets) Title() string { return "Keep passwords in the vault" }

// keptMark says that all of the former secrets are kept.
const keptMark = "all"

// Do keeps the former secrets, then writes the others.
func (s *SwapSecrets) Do(context.Context) error {
	if err := s.copy(s.Prefix, s.Kept, secret.Of("kept")); err != nil {
		return err
	}
	return s.Book.Vault.Set(below(s.Prefix, s.Site.Secrets))
}

// copy copies the secrets below one name to another, all or none, and with a
// mark where one is given.
func (s *SwapSecrets) copy(from, to string, mark secret.Text) error {
	names, err := s.Book.Vault.Names(from)
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
		if all[to+below], err = s.Book.Vault.Get(name); err != nil {
			return err
		}
	}
	return s.Book.Vault.Set(all)
}

// Undo puts the former ones back, if they were kept.
func (s *SwapSecrets) Undo(context.Context) error {
	kept, err := s.Book.Vault.Names(s.Kept + keptMark)
	if err != nil || len(kept) == 0 {
		return err
	}
	if err := s.Book.Vault.Forget(s.Prefix); err != nil {
		return err
	}
	if err := s.copy(s.Kept, s.Prefix, secret.Text{}); err != nil {
		return err
	}
	return s.Book.Vault.Forget(s.Kept)
}

// forgetKept drops what was kept for the undo of a job.
func (t *Tools) forgetKept(ctx context.Context) error {
	k := &KeepFiles{UndoStore: t.keptFiles()}
	for _, s := range []UndoStore{t.keptData(), k.UndoStore, listOf(k.UndoStore), k.ahead(), listOf(k.ahead())} {
		if err := s.drop(ctx, t.In); err != nil {
			return err
		}
	}
	return t.Book.Vault.Forget(site.KeptSecrets(t.Job))
}
