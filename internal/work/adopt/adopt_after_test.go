package adopt_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/adopt"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
)

// likeAnyOther copies an adopted site, moves the copy and takes it away, without
// any answer.
func likeAnyOther(t *testing.T, w *sitetest.World, x ledger.Site) {
	t.Helper()
	before := w.Snapshot()
	copied := w.Copy(place.Request{Site: x.Address, At: "chandlery.localhost/copied"})
	moved := w.Copy(place.Request{Site: copied.Site.Address, At: "chandlery.localhost/moved", Move: true})
	e, _ := sitetest.Examined(t, w, moved.Site.Address)
	assert.True(t, e.OK, "%s: %v", x.App, e.Checks)
	assert.Equal(t, x.Title, moved.Site.Title)
	w.Remove(remove.Request{Site: moved.Site.Address, NoBackup: true, WithAdded: true})
	sitetest.Same(t, before, w.Snapshot())
}

// An app that somebody else installed is found, read and looked after; nothing
// of it changes.
func TestAdopts(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	for app, at := range sitetest.Apps {
		done, err := w.Install(sitetest.Request(app, at))
		require.NoError(t, err)
		creds, err := w.Book.Reveal(ctx, done.Site.Address)
		require.NoError(t, err)
		require.NoError(t, w.Book.Ledger.DropSite(ctx, done.Site.Address))
		require.NoError(t, w.Book.Vault.Forget("sites/"+done.Site.Address+"/"))
		before := w.Snapshot()
		_, err = adopt.Adopt(ctx, w.Desk, adopt.Request{At: at})
		require.ErrorContains(t, err, "name and password", app)
		_, err = adopt.Adopt(ctx, w.Desk, adopt.Request{At: at, Answers: answer.Given{"admin.name": "wharfinger",
			"admin.password": "wrong-" + creds.Password.Reveal()}})
		require.ErrorContains(t, err, "does not pass the check", app)
		_, err = w.Book.Find(ctx, done.Site.Address)
		require.Error(t, err, "nothing was recorded")
		found, err := adopt.Adopt(ctx, w.Desk, adopt.Request{At: at, Answers: answer.Given{"admin.name": "wharfinger",
			"admin.password": creds.Password.Reveal()}})
		require.NoError(t, err, app)
		assert.True(t, found.OK, "%s: %v", app, found.Checks)
		sitetest.Same(t, before, w.Snapshot(), "nothing of it changes")
		x, err := w.Book.Find(ctx, done.Site.Address)
		require.NoError(t, err)
		assert.Equal(t, done.Site.Entries, x.Entries, app)
		assert.Equal(t, done.Site.Release, x.Release)
		assert.Equal(t, done.Site.Title, x.Title, app)
		assert.True(t, x.Adopted)
		assert.Equal(t, done.Site.Admin, x.Admin, app)
		assert.Equal(t, done.Site.Language, x.Language, app)
		assert.NotEmpty(t, x.Job, app)
		if x.Database != nil {
			assert.Equal(t, done.Site.Database.Name, x.Database.Name)
		}
		likeAnyOther(t, w, x)
	}
	_, err := adopt.Adopt(ctx, w.Desk, adopt.Request{At: "lockside.localhost/nothing"})
	assert.ErrorContains(t, err, "no app that a kit knows")
}
