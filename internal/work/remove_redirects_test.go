package work_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
	"tivset/internal/work/remove"
)

// With a site the addresses go that lead to it, unless they are to stay; one whose files somebody changed is named.
func TestRedirectsGoWithTheirSite(t *testing.T) {
	for _, keeps := range []bool{false, true} {
		w := sitetest.Demo(t)
		done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/old"))
		require.NoError(t, err)
		moved := moveTo(t, w, done.Site.Address, "lockside.localhost/new")
		all, err := w.Book.Ledger.Redirects(ctx)
		require.NoError(t, err)
		require.Len(t, all, 1)
		r := remove.Request{Site: moved.Address, KeepRedirects: keeps}
		p, err := remove.Look(ctx, w.Desk, r)
		require.NoError(t, err)
		gone, err := remove.Remove(ctx, w.Desk, p)
		require.NoError(t, err)
		require.NoError(t, p.Close())
		left, err := w.Book.Ledger.Redirects(ctx)
		require.NoError(t, err)
		if keeps {
			assert.Len(t, left, 1)
			assert.Empty(t, gone.Freed)
			assert.Contains(t, p.Warnings[0], "will lead nowhere")
			continue
		}
		assert.Empty(t, left)
		assert.Equal(t, []string{all[0].Address}, gone.Freed)
		assert.Equal(t, gone.Freed, p.Leading, "the review names it")
		assert.NoDirExists(t, w.Root+"/web/lockside/old")
	}
}
