package work_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
)

// leads asks an address and gives where it leads.
func leads(t *testing.T, g *chaos.Ground, address string) string {
	t.Helper()
	to, body, err := g.Visitor(address).LeadsTo(ctx, address)
	require.NoError(t, err)
	if to == "" && strings.Contains(string(body), "tivset-redirect") {
		return "by its page"
	}
	return to
}

// opens says that an address answers by itself, and with what.
func opens(t *testing.T, g *chaos.Ground, address, text string) {
	t.Helper()
	to, body, err := g.Visitor(address).LeadsTo(ctx, address)
	require.NoError(t, err)
	assert.Empty(t, to, address)
	assert.Contains(t, string(body), text, address)
}

func moveTo(t *testing.T, w *sitetest.World, from, to string) ledger.Site {
	t.Helper()
	p, err := place.Look(ctx, w.Desk, place.Request{Site: from, At: to, Move: true, Redirect: true})
	require.NoError(t, err, "%v", fault.Of(err))
	defer p.Close()
	done, err := place.Carry(ctx, w.Desk, p)
	require.NoError(t, err, "%v", fault.Of(err))
	return done.Site
}

// An address that a site left leads to where it is: with path and query as far as
// the server can be made to, past what lies there besides or comes later, never
// in a circle, and after a second move straight to the last place. It is known,
// and can be taken away.
func TestRedirects(t *testing.T) {
	for server, serve := range map[string]func(servers.Stage, []servers.Site, ...string) string{
		"nginx": servers.PHPWeb, "Apache": servers.Apache, "strict Apache": servers.StrictApache,
	} {
		t.Run(server, func(t *testing.T) {
			t.Parallel()
			g := chaos.NewGround(t, serve)
			w := g.World(t, "local")
			root := filepath.Join(w.Root, "web/lockside")
			require.NoError(t, os.MkdirAll(filepath.Join(root, ".well-known"), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(root, ".well-known/proof.txt"), []byte("it is mine"), 0o644))
			done, err := w.Install(chaos.Request("lockside.localhost", "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))
			at := done.Site.URL
			require.NoError(t, os.WriteFile(filepath.Join(root, "mine.txt"), []byte("a page of mine"), 0o644))
			_, err = w.Install(chaos.Request("lockside.localhost/inner", "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))

			inside := moveTo(t, w, done.Site.Address, "lockside.localhost/talk") // into its own old folder
			covered(t, g, w, server, at, inside.URL)
			opens(t, g, at+"inner/", "0 entries")
			opens(t, g, at+"mine.txt", "a page of mine")
			opens(t, g, at+".well-known/proof.txt", "it is mine")
			_, err = w.Install(chaos.Request("lockside.localhost/later", "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))
			opens(t, g, at+"later/", "0 entries")

			_, err = w.Install(chaos.Request("lockside.localhost", "1.0.0"))
			require.ErrorContains(t, err, "leads to a site that moved")
			assert.Contains(t, fault.Of(err).Remedy, fault.Call("free", done.Site.Address))
			_, err = w.Book.Find(ctx, "lockside.localhost")
			require.ErrorContains(t, err, "leads to a site that moved")

			last := moveTo(t, w, inside.Address, "chandlery.localhost/talk")
			covered(t, g, w, server, at, last.URL)
			covered(t, g, w, server, inside.URL, last.URL)
			p, err := remove.Look(ctx, w.Desk, remove.Request{Site: last.Address})
			require.NoError(t, err)
			assert.Len(t, p.Leading, 2)
			require.NoError(t, p.Close())
			all, err := w.Book.Ledger.Redirects(ctx)
			require.NoError(t, err)
			require.Len(t, all, 2)
			require.NoError(t, os.WriteFile(filepath.Join(root, "talk/index.php"), []byte("<?php // mine now"), 0o644))
			for _, r := range all {
				stays, err := w.Sites.DropRedirect(ctx, r)
				require.NoError(t, err)
				assert.Equal(t, r.Address != done.Site.Address, slices.Equal(stays, []string{"web/lockside/talk/index.php"}))
			}
			left, err := os.ReadDir(root)
			require.NoError(t, err)
			var names []string
			for _, e := range left {
				names = append(names, e.Name())
			}
			assert.Equal(t, []string{".well-known", "inner", "later", "mine.txt", "talk"}, names)
		})
	}
}

// covered asks an address that leads elsewhere, in its first page, its old ones
// and those below, and compares it with what is on record.
func covered(t *testing.T, g *chaos.Ground, w *sitetest.World, server, at, to string) {
	t.Helper()
	all, err := w.Book.Ledger.Redirects(ctx)
	require.NoError(t, err)
	i := slices.IndexFunc(all, func(r ledger.Redirect) bool { return r.URL == at })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, to, all[i].To)
	assert.Equal(t, to, leads(t, g, at))
	assert.Equal(t, to+"?n=1&m=a%20b", leads(t, g, at+"?n=1&m=a%20b"))
	assert.Equal(t, to+"write.php?n=2", leads(t, g, at+"write.php?n=2"))
	assert.Equal(t, to+"admin/?n=3", leads(t, g, at+"admin/?n=3"))
	if server == "nginx" {
		assert.Equal(t, ledger.CoversPages, all[i].Covers)
		return
	}
	assert.Equal(t, ledger.CoversAll, all[i].Covers)
	assert.Equal(t, to+"admin/users/7?n=4", leads(t, g, at+"admin/users/7?n=4"))
	assert.Equal(t, to+"a%20year/of/it?n=5", leads(t, g, at+"a%20year/of/it?n=5"))
}
