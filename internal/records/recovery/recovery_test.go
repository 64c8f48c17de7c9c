package recovery_test

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/home"
	"tivset/internal/records/ledger"
	"tivset/internal/records/recovery"
	"tivset/internal/records/vault"
	"tivset/internal/secret"
)

const passphrase = "seven lamps over the weir"

var (
	ctx = context.Background()
	now = time.Now().Truncate(time.Second)
)

// machine is one with a site, an account and a password on record.
func machine(t *testing.T) (home.Home, recovery.Source) {
	t.Helper()
	h := home.At(filepath.Join(t.TempDir(), "home"))
	require.NoError(t, vault.At(h.Vault(), h.VaultKey()).Set(map[string]secret.Text{"quill/login": secret.Of("Lamp 92")}))
	require.NoError(t, h.PutAccountFile("quill", []byte("account: quill\n")))
	require.NoError(t, h.KeepOperator("The wharfinger"))
	l, err := ledger.Open(ctx, h.Ledger())
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	require.NoError(t, l.PutSite(ctx, ledger.Site{Address: "lockside.localhost/forum", Account: "quill"}))
	return h, recovery.Source{Home: h, Snapshot: l.Snapshot, Manifest: recovery.Manifest{Version: recovery.Version,
		Made: now, Sites: 1, Accounts: []string{"quill"}}}
}

// What was saved opens records and vault on a machine that has nothing.
func TestALostMachine(t *testing.T) {
	_, from := machine(t)
	file := filepath.Join(t.TempDir(), "recovery.tivset")
	_, err := recovery.Save(ctx, from, file, passphrase)
	require.NoError(t, err)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	for _, plain := range []string{"Lamp 92", "AGE-SECRET-KEY", "lockside", "account: quill"} {
		assert.False(t, bytes.Contains(text, []byte(plain)), plain)
	}
	opened, err := recovery.Open(file, passphrase)
	require.NoError(t, err)
	assert.Equal(t, 1, opened.Sites)
	fresh := home.At(filepath.Join(t.TempDir(), "fresh"))
	require.NoError(t, opened.Put(fresh, false, now))
	password, err := vault.At(fresh.Vault(), fresh.VaultKey()).Get("quill/login")
	require.NoError(t, err)
	assert.Equal(t, "Lamp 92", password.Reveal())
	l, err := ledger.Open(ctx, fresh.Ledger())
	require.NoError(t, err)
	defer l.Close()
	sites, err := l.Sites(ctx)
	require.NoError(t, err)
	assert.Len(t, sites, 1)
	who, err := fresh.Operator()
	require.NoError(t, err)
	assert.Equal(t, "The wharfinger", who)
	info, err := os.Stat(fresh.VaultKey())
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// A wrong passphrase, another file, one that is cut or was changed: each is said, and nothing is written.
func TestFilesThatDoNotOpen(t *testing.T) {
	_, from := machine(t)
	file := filepath.Join(t.TempDir(), "recovery.tivset")
	_, err := recovery.Save(ctx, from, file, passphrase)
	require.NoError(t, err)
	_, err = recovery.Open(file, "seven lamps over the Weir")
	assert.ErrorContains(t, err, "the passphrase is not the one")
	_, err = recovery.Open(file+"x", passphrase)
	assert.ErrorContains(t, err, "cannot be read")
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	middle := text[len(text)/2 : len(text)/2+16]
	for _, damaged := range [][]byte{text[:len(text)/2], []byte("hello"), {}, bytes.Replace(text, middle,
		make([]byte, 16), 1)} {
		require.NoError(t, os.WriteFile(file, damaged, 0o600))
		_, err = recovery.Open(file, passphrase)
		require.Error(t, err)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind)
	}
}

// Records that are there are never written over, and when one cannot be placed all is as it was.
func TestRecordsThatAreThere(t *testing.T) {
	h, from := machine(t)
	file := filepath.Join(t.TempDir(), "recovery.tivset")
	_, err := recovery.Save(ctx, from, file, passphrase)
	require.NoError(t, err)
	opened, err := recovery.Open(file, passphrase)
	require.NoError(t, err)
	err = opened.Put(h, false, now)
	require.Error(t, err)
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
	before, err := os.ReadFile(h.Vault())
	require.NoError(t, err)
	require.NoError(t, opened.Put(h, true, now))
	aside, err := filepath.Glob(h.Vault() + ".before-recovery-*")
	require.NoError(t, err)
	require.Len(t, aside, 1)
	kept, err := os.ReadFile(aside[0])
	require.NoError(t, err)
	assert.Equal(t, before, kept)

	fresh := home.At(filepath.Join(t.TempDir(), "fresh"))
	require.NoError(t, os.MkdirAll(fresh.Config, 0o700))
	require.NoError(t, os.WriteFile(fresh.Data, []byte("a file where the folder goes"), 0o600))
	require.Error(t, opened.Put(fresh, false, now))
	left, err := os.ReadDir(fresh.Config)
	require.NoError(t, err)
	for _, e := range left {
		assert.True(t, e.IsDir(), e.Name())
	}
}

// Nothing but an older recovery file is written over.
func TestAnotherFileOfThatName(t *testing.T) {
	_, from := machine(t)
	file := filepath.Join(t.TempDir(), "thesis.odt")
	require.NoError(t, os.WriteFile(file, []byte("three years of work"), 0o600))
	_, err := recovery.Save(ctx, from, file, passphrase)
	require.Error(t, err)
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "three years of work", string(text))
	_, err = recovery.Save(ctx, from, filepath.Dir(file), passphrase)
	require.Error(t, err, "a folder")
	ours := filepath.Join(t.TempDir(), "kept")
	for range 2 {
		_, err = recovery.Save(ctx, from, ours, passphrase)
		require.NoError(t, err)
	}
}

// What changes is brought up to date without the passphrase; a file that is gone is known to be.
func TestRefresh(t *testing.T) {
	h, from := machine(t)
	file := filepath.Join(t.TempDir(), "recovery.tivset")
	from.Manifest.Made = time.Now().Add(time.Second)
	_, err := recovery.Save(ctx, from, file, passphrase)
	require.NoError(t, err)
	last, err := recovery.Last(h)
	require.NoError(t, err)
	assert.False(t, last.Stale(h))
	require.NoError(t, vault.At(h.Vault(), h.VaultKey()).Set(map[string]secret.Text{"quill/login": secret.Of("Tide 11")}))
	later := time.Now().Add(time.Hour)
	require.NoError(t, os.Chtimes(h.Vault(), later, later))
	assert.True(t, last.Stale(h))
	from.Manifest.Made = later.Add(time.Second)
	require.NoError(t, last.Refresh(ctx, from))
	opened, err := recovery.Open(file, passphrase)
	require.NoError(t, err)
	fresh := home.At(filepath.Join(t.TempDir(), "fresh"))
	require.NoError(t, opened.Put(fresh, false, now))
	password, err := vault.At(fresh.Vault(), fresh.VaultKey()).Get("quill/login")
	require.NoError(t, err)
	assert.Equal(t, "Tide 11", password.Reveal())
	last, err = recovery.Last(h)
	require.NoError(t, err)
	assert.False(t, last.Stale(h))
	require.NoError(t, os.Remove(file))
	assert.True(t, last.Stale(h))
	none, err := recovery.Last(fresh)
	require.NoError(t, err)
	assert.Nil(t, none)
}
