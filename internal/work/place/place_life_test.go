package place_test

import (
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/hosting/account"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
)

// A site moves to another account, and a copy of it comes back.
func TestMovesToAnotherAccount(t *testing.T) {
	w := sitetest.Demo(t)
	w.EditAccount(func(a *account.Account) {
		other := *a
		other.Name, other.Reach = "other", "local:"+filepath.Join(w.Root, "web")
		other.Domains = slices.Clone(a.Domains[3:])
		other.Domains[0].Folder = "slate-school"
		a.Domains = a.Domains[:3]
		other.Databases = slices.Clone(a.Databases)
		admin := *a.Databases[0].Admin
		admin.Password = "plain:" + w.Demo.Password
		other.Databases[0].Admin = &admin
		text, err := other.Format()
		require.NoError(t, err)
		_, err = w.Accounts.Add("other", text, false, os.Getenv)
		require.NoError(t, err)
	})
	begin := w.Snapshot()
	done, err := w.Install(sitetest.Request("slateroom", "lockside.localhost/school"))
	require.NoError(t, err)
	moved := w.Copy(place.Request{Site: done.Site.Address, At: "slate-school.localhost", Account: "other", Move: true})
	assert.Equal(t, "other", moved.Site.Account)
	e, _ := sitetest.Examined(t, w, moved.Site.Address)
	assert.True(t, e.OK, "%v", e.Checks)
	copied := w.Copy(place.Request{Site: moved.Site.Address, At: "chandlery.localhost", Account: "quillmere"})
	e, _ = sitetest.Examined(t, w, copied.Site.Address)
	assert.True(t, e.OK, "%v", e.Checks)
	for _, x := range []string{moved.Site.Address, copied.Site.Address} {
		w.Remove(remove.Request{Site: x, NoBackup: true, WithAdded: true})
	}
	sitetest.Same(t, begin, w.Snapshot(), "nothing is left")
}

// An app whose admin area has a name of its own is copied, moved and restored like
// any other; a copy gets keys of its own, and a move keeps them.
func TestAdminFoldersAndKeys(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("pennywharf", "lockside.localhost/shop"))
	require.NoError(t, err)
	key := func(address string) string {
		kept, err := w.Book.Vault.Get(site.VaultName(address, "secret.key"))
		require.NoError(t, err)
		return kept.Reveal()
	}
	first := key(done.Site.Address)
	copied := w.Copy(place.Request{Site: done.Site.Address, At: "chandlery.localhost/try"})
	assert.NotEqual(t, first, key(copied.Site.Address))
	text, err := os.ReadFile(filepath.Join(w.Root, copied.Site.Folder, "config/shop.env"))
	require.NoError(t, err)
	assert.Contains(t, string(text), key(copied.Site.Address))
	moved := w.Copy(place.Request{Site: done.Site.Address, At: "chandlery.localhost/shop", Move: true})
	assert.Equal(t, first, key(moved.Site.Address))
	for _, x := range []ledger.Site{copied.Site, moved.Site} {
		assert.Equal(t, site.AdminFolder(done.Site), site.AdminFolder(x))
		e, _ := sitetest.Examined(t, w, x.Address)
		assert.True(t, e.OK, "%v", e.Checks)
	}
	_, err = place.Look(ctx, w.Desk, place.Request{Site: moved.Site.Address, At: "lockside.localhost/shop",
		Answers: answer.Given{"admin.folder": "counter"}})
	assert.ErrorContains(t, err, "keeps its name")
	_, err = place.Look(ctx, w.Desk, place.Request{Site: moved.Site.Address, At: "lockside.localhost/shop",
		Answers: answer.Given{"titel": "x"}})
	assert.Error(t, err, "an answer that nobody asked for is told")
}
