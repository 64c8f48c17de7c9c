package home_test

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/account"
	"tivset/internal/records/home"
)

func TestAccounts(t *testing.T) {
	h := home.At(filepath.Join(t.TempDir(), "h"))
	names, err := h.Accounts()
	require.NoError(t, err)
	assert.Empty(t, names)
	a := &account.Account{Name: "quillmere", Reach: "local:/srv", Store: ".tivset",
		Domains: []account.Domain{{Name: "a.localhost", Folder: "web", URL: "http://a.localhost"}}}
	require.NoError(t, h.PutAccount(a))
	got, err := h.Account("quillmere")
	require.NoError(t, err)
	assert.Equal(t, a, got)
	_, err = h.Account("quilmere")
	assert.ErrorContains(t, err, "no account is called quilmere")
	info, err := os.Stat(filepath.Join(h.Config, "accounts/quillmere.yaml"))
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, h.ForgetAccount("quillmere"))
	require.NoError(t, h.ForgetAccount("quillmere"))
	_, err = h.Account("../../etc/passwd")
	assert.Error(t, err)
}

func TestCatalogues(t *testing.T) {
	h := home.At(t.TempDir())
	c, err := h.Catalogues()
	require.NoError(t, err)
	assert.True(t, c.BuiltIn, "the built-in kits, when nothing is said")
	want := home.Catalogues{Folders: []home.Folder{{Name: "mine", Folder: "/srv/kits"}}}
	require.NoError(t, h.PutCatalogues(want))
	c, err = h.Catalogues()
	require.NoError(t, err)
	assert.Equal(t, want, c)
	require.NoError(t, os.WriteFile(filepath.Join(h.Config, "catalogues.yaml"), []byte("folders: 5"), 0o600))
	_, err = h.Catalogues()
	assert.ErrorContains(t, err, "cannot be read")
	assert.NotEqual(t, home.Usual().Config, home.Usual().Data)
}
