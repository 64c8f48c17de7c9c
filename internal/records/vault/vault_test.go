package vault_test

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/vault"
	"tivset/internal/secret"
)

func paths(t *testing.T) (file, key string) {
	dir := t.TempDir()
	return filepath.Join(dir, "data/vault.age"), filepath.Join(dir, "config/vault.key")
}

func TestVault(t *testing.T) {
	file, key := paths(t)
	v := vault.At(file, key)
	_, err := v.Get("a")
	assert.ErrorIs(t, err, fs.ErrNotExist)
	require.NoError(t, v.Set(map[string]secret.Text{"sites/a/x": secret.Of("geheim"), "sites/a/y": secret.Of(""),
		"sites/a/b/x": secret.Of("2")}))
	got, err := vault.At(file, key).Get("sites/a/x")
	require.NoError(t, err)
	assert.Equal(t, "geheim", got.Reveal())
	require.NoError(t, v.Forget("sites/a/"))
	names, err := v.Names("sites/a/")
	require.NoError(t, err)
	assert.Empty(t, names)
	inner, err := v.Get("sites/a/b/x")
	require.NoError(t, err, "a site inside another keeps its own")
	assert.Equal(t, "2", inner.Reveal())
	sealed, err := v.Seal("sites/a/b/")
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "2\"")
	opened, err := v.Unseal(sealed)
	require.NoError(t, err)
	assert.Equal(t, map[string]secret.Text{"x": secret.Of("2")}, opened)
	other, otherKey := paths(t)
	require.NoError(t, vault.At(other, otherKey).Set(map[string]secret.Text{"a": secret.Of("b")}))
	_, err = vault.At(other, otherKey).Unseal(sealed)
	assert.Error(t, err)
	for _, name := range []string{file, key} {
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.NotContains(t, string(text), "geheim")
	}
}

func TestKeyThatIsGoneOrAnother(t *testing.T) {
	file, key := paths(t)
	v := vault.At(file, key)
	require.NoError(t, v.Set(map[string]secret.Text{"a": secret.Of("1")}))
	text, err := os.ReadFile(key)
	require.NoError(t, err)
	require.NoError(t, os.Remove(key))
	_, err = v.Get("a")
	assert.ErrorContains(t, err, "key is not there")
	assert.ErrorContains(t, v.Set(map[string]secret.Text{"b": secret.Of("2")}), "key is not there",
		"a new key would lose what is in it")
	other, otherKey := paths(t)
	require.NoError(t, vault.At(other, otherKey).Set(map[string]secret.Text{"a": secret.Of("1")}))
	_, err = vault.At(file, otherKey).Get("a")
	assert.ErrorContains(t, err, "does not open")
	require.NoError(t, os.WriteFile(key, []byte("nonsense"), 0o600))
	_, err = v.Get("a")
	assert.ErrorContains(t, err, "cannot be read")
	require.NoError(t, os.WriteFile(key, text, 0o600))
	_, err = v.Get("a")
	assert.NoError(t, err)
}

func TestManyAtOnce(t *testing.T) {
	file, key := paths(t)
	require.NoError(t, vault.At(file, key).Set(nil))
	var wait sync.WaitGroup
	for i := range 20 {
		wait.Go(func() {
			assert.NoError(t, vault.At(file, key).Set(map[string]secret.Text{fmt.Sprint(i): secret.Of("x")}))
		})
	}
	wait.Wait()
	names, err := vault.At(file, key).Names("")
	require.NoError(t, err)
	assert.Len(t, names, 20)
}
