package site_test

import (
	"context"
	"reflect"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/install"
)

var ctx = context.Background()

// A site made of its record is the one that was planned: every value that a
// kit's texts can name is the same, secrets included, for every app.
func TestASiteComesBackFromItsRecord(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	now := time.Date(2026, 11, 23, 8, 4, 5, 0, time.UTC)
	for app, at := range sitetest.Apps {
		p, err := w.Planner.Plan(ctx, sitetest.Request(app, at))
		require.NoError(t, err, app)
		done, err := install.Install(ctx, w.Desk, p)
		require.NoError(t, err, app)
		back, err := w.Book.From(done.Site)
		require.NoError(t, err, app)
		planned, err := p.Values(now)
		require.NoError(t, err)
		found, err := back.Values(now)
		require.NoError(t, err)
		assert.Equal(t, planned, found, app)
		assert.Equal(t, p.AdminURL(), back.AdminURL(), app)
		assert.Equal(t, p.Address(), back.Address(), app)
		assert.Equal(t, p.Recorded(), back.Recorded(), app)
		assert.Equal(t, p.Leaves(), back.Leaves(), app)
		assert.ElementsMatch(t, p.Hidden(), back.Hidden(), app)
	}
}

// A record whose account, app or release this machine does not know is a fault
// with a remedy, and no site with holes.
func TestRecordsThatMakeNoSite(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	for name, spoil := range map[string]func(*ledger.Site){
		"account": func(x *ledger.Site) { x.Account = "nobody" },
		"app":     func(x *ledger.Site) { x.App = "nothing" },
		"address": func(x *ledger.Site) { x.URL, x.Address = "http://nowhere.localhost/", "nowhere.localhost" },
	} {
		x := done.Site
		spoil(&x)
		s, err := w.Book.From(x)
		require.Error(t, err, name)
		assert.Nil(t, s, name)
		assert.NotEmpty(t, fault.Of(err).Remedy, name)
	}
}

// Another secret makes another site; the first stays what it was.
func TestASiteIsAValue(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	s, err := w.Book.From(done.Site)
	require.NoError(t, err)
	skip := reflect.TypeFor[*account.Account]()
	before := sitetest.Deep(s, skip)
	other := s.With(map[string]secret.Text{site.AdminPassword: secret.Of("another-one-71")})
	assert.Equal(t, "another-one-71", other.Password().Reveal())
	assert.Len(t, other.Secrets, len(s.Secrets))
	only := s.Only(map[string]secret.Text{site.AdminPassword: secret.Of("x")})
	assert.Len(t, only.Secrets, 1)
	other.Secrets["more"] = secret.Of("y")
	sitetest.Same(t, before, sitetest.Deep(s, skip))
	bare := (&site.Site{}).With(map[string]secret.Text{"a": secret.Of("b")})
	assert.Len(t, bare.Secrets, 1)
}

// What somebody calls a site means that one, or the fault says which it could be.
func TestSitesAreFoundByWhatPeopleCallThem(t *testing.T) {
	w := sitetest.Demo(t)
	for app, at := range map[string]string{"inkreach": "lockside.localhost/journal",
		"willowbench": "chandlery.localhost/forum",
		"pennywharf":  "lockside.localhost/forum"} {
		_, err := w.Install(sitetest.Request(app, at))
		require.NoError(t, err)
	}
	for word, want := range map[string]string{"journal": "inkreach", "lockside.localhost/journal": "inkreach",
		"http://lockside.localhost/journal/": "inkreach", "chandlery.localhost/forum": "willowbench",
		"lockside.localhost/forum": "pennywharf"} {
		x, err := w.Book.Find(ctx, word)
		require.NoError(t, err, word)
		assert.Equal(t, want, x.App, word)
		known, err := w.Book.Knows(ctx, word)
		require.NoError(t, err)
		assert.True(t, known)
	}
	for _, word := range []string{"forum", "jurnal", "nowhere.localhost", ""} {
		_, err := w.Book.Find(ctx, word)
		require.Error(t, err, word)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind, word)
	}
	for word, want := range map[string]bool{"forum": true, "jurnal": false, "nowhere.localhost": false} {
		known, err := w.Book.Knows(ctx, word)
		require.NoError(t, err)
		assert.Equal(t, want, known, word)
	}
}

// What lies below a site and belongs to others is theirs: other sites, other
// domains' roots, the store, and what hosts put there.
func TestWhatBelongsToOthers(t *testing.T) {
	w := sitetest.Demo(t)
	outer, err := w.Install(sitetest.Request("pennywharf", "chandlery.localhost"))
	require.NoError(t, err)
	inner, err := w.Install(sitetest.Request("inkreach", "chandlery.localhost/journal"))
	require.NoError(t, err)
	w.EditAccount(func(a *account.Account) {
		a.Domains = append(a.Domains, account.Domain{Name: "sub.chandlery.localhost", Folder: "web/chandlery/sub",
			URL: "http://sub.chandlery.localhost"})
	})
	s, err := w.Book.From(outer.Site)
	require.NoError(t, err)
	others, err := w.Book.Foreign(ctx, s)
	require.NoError(t, err)
	assert.ElementsMatch(t, files.Others{"web/chandlery/journal", "web/chandlery/sub", "web/chandlery/.well-known"},
		others)
	s, err = w.Book.From(inner.Site)
	require.NoError(t, err)
	others, err = w.Book.Foreign(ctx, s)
	require.NoError(t, err)
	assert.Equal(t, files.Others{"web/chandlery/journal/.well-known"}, others, "the outer site is no part of the inner")
}

func TestRevealGivesWhatTheVaultHas(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("towline", "lockside.localhost/help"))
	require.NoError(t, err)
	c, err := w.Book.Reveal(ctx, "help")
	require.NoError(t, err)
	assert.Equal(t, done.Password, c.Password)
	var names, values []string
	for _, o := range c.Others {
		names, values = append(names, o.Name), append(values, o.Value.Reveal())
	}
	assert.NotEmpty(t, names)
	assert.Contains(t, values, sitetest.Key)
	assert.Contains(t, values, sitetest.MailPassword)
	require.NoError(t, w.Book.Vault.Forget(site.VaultName(done.Site.Address, "")))
	_, err = w.Book.Reveal(ctx, "help")
	require.Error(t, err)
	assert.NotEmpty(t, fault.Of(err).Remedy)
}
