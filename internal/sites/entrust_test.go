package sites_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer/care"
	"tivset/internal/fault"
	"tivset/internal/sites"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/update"
)

// Care is changed for all sites that are named, or for none; what is decided while a job
// is at work holds when it ends.
func TestEntrusts(t *testing.T) {
	ctx := context.Background()
	w := sitetest.Demo(t)
	old, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	other, err := w.Install(sitetest.Request("lampshelf", "lockside.localhost/pictures"))
	require.NoError(t, err)
	assert.Equal(t, care.Usual, old.Site.Care)
	both := []string{old.Site.Address, other.Site.Address}

	_, err = w.Sites.Entrust(ctx, both, sites.Entrusting{Decided: map[string]string{"accepts": "all", "between": "2-5"}})
	f := fault.Of(err)
	require.Equal(t, fault.Usage, f.Kind)
	assert.Len(t, f.Problems, 2)
	_, err = w.Sites.Entrust(ctx, append(both, "nowhere"),
		sites.Entrusting{Decided: map[string]string{"accepts": "features"}})
	require.Error(t, err)
	x, err := w.Book.Find(ctx, old.Site.Address)
	require.NoError(t, err)
	assert.Equal(t, care.Usual, x.Care, "for none")

	plan, err := update.Look(ctx, w.Desk, update.Request{Site: old.Site.Address})
	require.NoError(t, err)
	defer plan.Close()
	changed, err := w.Sites.Entrust(ctx, both[:1], sites.Entrusting{Decided: map[string]string{"accepts": "breaking",
		"notify": "nobody"}})
	require.NoError(t, err)
	assert.Equal(t, "1.4.0", changed[0].Due)
	done, err := update.Update(ctx, w.Desk, plan)
	require.NoError(t, err)
	x, err = w.Book.Find(ctx, done.Site.Address)
	require.NoError(t, err)
	assert.Equal(t, "1.4.0", x.Release)
	assert.Equal(t, care.Care{Accepts: "breaking", After: "3d", Between: "02-05", Rehearse: "from-features",
		Backups: "daily, 7d,4w,6m", Notify: "nobody"}, x.Care)
	sitetest.Examined(t, w, x.Address)

	like, err := w.Sites.Entrust(ctx, both[1:],
		sites.Entrusting{Like: both[0], Decided: map[string]string{"between": "any"}})
	require.NoError(t, err)
	assert.Equal(t, care.Care{Accepts: "breaking", After: "3d", Between: "any", Rehearse: "from-features",
		Backups: "daily, 7d,4w,6m", Notify: "nobody"}, like[0].Care)
}
