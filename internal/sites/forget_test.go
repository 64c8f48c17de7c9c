package sites_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
)

// Only a site that is gone is forgotten; what is left of it is named.
func TestForget(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	before := w.Snapshot()
	_, err = w.Sites.Forget(ctx, "journal", false)
	f := fault.Of(err)
	require.Equal(t, fault.NeedsConfirmation, f.Kind)
	assert.Contains(t, f.Remedy, fault.Call("remove", done.Site.Address))
	w.EditAccount(func(a *account.Account) { a.Reach = "local:" + w.Root + "-away" })
	_, err = w.Sites.Forget(ctx, "journal", false)
	require.Error(t, err, "an account that cannot be reached says nothing about its sites")
	w.EditAccount(func(a *account.Account) { a.Reach = "local:" + w.Root })
	sitetest.Same(t, before, w.Snapshot())
	_, err = w.Book.Reveal(ctx, "journal")
	require.NoError(t, err)

	require.NoError(t, os.RemoveAll(filepath.Join(w.Root, done.Site.Folder)))
	gone, err := w.Sites.Forget(ctx, "journal", false)
	require.NoError(t, err)
	assert.Equal(t, done.Site.Database.Name, gone.Database, "its database is still there")
	sites, err := w.Book.All(ctx)
	require.NoError(t, err)
	assert.Empty(t, sites)
	_, err = w.Book.Vault.Get("sites/" + done.Site.Address + "/admin.password")
	assert.ErrorIs(t, err, os.ErrNotExist)
	_, err = w.Sites.Forget(ctx, "journal", false)
	assert.Error(t, err)
}
