package accounts_test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/secret"
	"tivset/internal/testing/sitetest"
)

func TestAccounts(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	assert.ErrorContains(t, w.Accounts.Forget(context.Background(), "quillmere"), "the account has sites")
	parts, err := w.Accounts.Test(context.Background(), "quillmere")
	require.NoError(t, err)
	require.Len(t, parts, 7)
	for _, p := range parts {
		assert.True(t, p.OK, "%s: %s", p.Name, p.Detail)
	}
	t.Setenv("QUILL_PASSWORD", "from-env")
	file := filepath.Join(t.TempDir(), "pw")
	require.NoError(t, os.WriteFile(file, []byte("from-file\n"), 0o600))
	for how, want := range map[string]string{"env:QUILL_PASSWORD": "from-env", "file:" + file: "from-file",
		"plain:pl:ain": "pl:ain"} {
		text := "account: second\nfiles: local:/srv\ndomains: [{name: a.localhost, folder: web}]\ndatabases: [{name: " +
			"main, engine: mariadb, server: \"h:1\", admin: {user: root, password: \"" + how + "\"}}]\n"
		_, err := w.Accounts.Add("second", []byte(text), true, os.Getenv)
		require.NoError(t, err)
		got, err := w.Book.Vault.Get("second/main")
		require.NoError(t, err)
		assert.Equal(t, secret.Of(want), got)
	}
	// With two accounts the address's domain says which is meant.
	_, err = w.Planner.Plan(context.Background(), sitetest.Request("inkreach", "lockside.localhost/again"))
	require.NoError(t, err)
	_, err = w.Planner.Plan(context.Background(), sitetest.Request("inkreach", "nowhere.localhost/again"))
	assert.ErrorContains(t, err, "no account has a domain of this address")
}
