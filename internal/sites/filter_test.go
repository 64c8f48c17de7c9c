package sites_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/sites"
	"tivset/internal/testing/sitetest"
)

func TestFilter(t *testing.T) {
	x := ledger.Site{Address: "lockside.localhost/forum", App: "willowbench", Release: "2.1.0", Account: "quillmere",
		Health: "bad", Title: "Lockside Talk", Admin: ledger.Admin{Email: "w@lockside.localhost"},
		Labels: map[string]string{"customer": "brook"}}
	for text, holds := range map[string]bool{
		"app=willowbench": true, "app=Willowbench": true, "app!=willowbench": false, "app=inkreach,willowbench": true,
		"app!=inkreach,slateroom": true, "app~low": true, "release<2.2": true, "release<2.1.0": false, "release<=2.1.0": true,
		"release>2": true, "release>=10": false, "health=bad": true, "health=good,gone": false, "kind=forum": true,
		"kind!=forum": false, "next~look": true, "email~lockside": true, "title~talk": true, "customer=brook": true,
		"customer=": false, "contract=": true, "contract!=2026": true, "account=quillmere": true, "newer=": true,
	} {
		f, err := sites.Filtered([]string{text})
		require.NoError(t, err, text)
		assert.Equal(t, holds, f.Holds(x, "forum"), text)
	}
	f, err := sites.Filtered([]string{"app=willowbench", "customer=lamp"})
	require.NoError(t, err)
	assert.False(t, f.Holds(x, "forum"), "all together")
	for _, wrong := range []string{"", "app", "=x", "health=fine", "App=x"} {
		_, err := sites.Filtered([]string{wrong})
		assert.Equal(t, fault.Usage, fault.Of(err).Kind, wrong)
	}
}

// Labels stay when something is done with a site, go when they are taken away, and are asked for by every filter; what
// no site has is said to be so, and is no empty answer.
func TestLabels(t *testing.T) {
	ctx := context.Background()
	w := sitetest.Demo(t)
	for _, at := range []string{"a", "b", "c"} {
		_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/"+at))
		require.NoError(t, err)
	}
	all, err := w.Book.All(ctx)
	require.NoError(t, err)
	label := map[string]map[string]string{all[0].Address: {"customer": "brook", "contract": "2026"},
		all[1].Address: {"customer": "brook"}}
	require.NoError(t, w.Book.Ledger.Label(ctx, label))
	require.NoError(t, w.Book.Ledger.KeepSite(ctx, all[0]), "a job that began before keeps what it found")
	require.NoError(t, w.Book.Ledger.Label(ctx, map[string]map[string]string{all[0].Address: {"contract": ""}}))
	x, err := w.Book.Find(ctx, all[0].Address)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"customer": "brook"}, x.Labels)
	assert.Error(t, w.Book.Ledger.Label(ctx, map[string]map[string]string{all[2].Address: {"customer": "x"},
		"nowhere": nil}))
	found, err := sites.Where(ctx, w.Book, []string{"customer=brook", "kind=blog,shop", "health=good"}, "")
	require.NoError(t, err)
	assert.Len(t, found, 2)
	found, err = sites.Where(ctx, w.Book, []string{"customer=brook"}, "")
	require.NoError(t, err)
	assert.Len(t, found, 2)
	for _, none := range [][]string{{"customer=lamp"}, {"app=slateroom"}} {
		_, err := sites.Where(ctx, w.Book, none, "")
		assert.Equal(t, fault.NoSuchSite, fault.CodeOf(err), "%v", none)
	}
	_, err = sites.Where(ctx, w.Book, []string{"custommer=brook"}, "")
	assert.ErrorContains(t, err, "no site has a label custommer")
	assert.Contains(t, fault.Of(err).Remedy, "customer")
}
