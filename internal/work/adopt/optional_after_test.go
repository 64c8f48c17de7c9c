package adopt_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/adopt"
)

// A site without a configuration file that need not be there is adopted and looked after
// all the same; one without another is not.
func TestAdoptsWithoutWhatNeedNotBeThere(t *testing.T) {
	w := sitetest.Demo(t)
	dir := filepath.Join(w.Demo.Folder, "demo/catalogue/inkreach")
	name := filepath.Join(dir, "kit.yaml")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	more := strings.Replace(string(text), "\nsecrets:", "  - {path: config/mine.ini, template: mine.tmpl, format: ini, "+
		"optional: true}\n\nsecrets:", 1)
	require.NoError(t, os.WriteFile(name, []byte(more), 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "mine.tmpl"), []byte("[mine]\nurl = {url}\n"), 0o644))
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	x := done.Site
	creds, err := w.Book.Reveal(ctx, x.Address)
	require.NoError(t, err)
	forget := func() {
		require.NoError(t, w.Book.Ledger.DropSite(ctx, x.Address))
		require.NoError(t, w.Book.Vault.Forget("sites/"+x.Address+"/"))
	}
	forget()
	request := adopt.Request{At: "lockside.localhost/journal", Answers: answer.Given{"admin.name": "wharfinger",
		"admin.password": creds.Password.Reveal()}}
	settings := filepath.Join(w.Root, x.Folder, "config/settings.php")
	require.NoError(t, os.Rename(settings, settings+".away"))
	_, err = adopt.Adopt(ctx, w.Desk, request)
	require.ErrorContains(t, err, "no app that a kit knows")
	require.NoError(t, os.Rename(settings+".away", settings))

	require.NoError(t, os.Remove(filepath.Join(w.Root, x.Folder, "config/mine.ini")))
	found, err := adopt.Adopt(ctx, w.Desk, request)
	require.NoError(t, err)
	assert.True(t, found.OK, "%v", found.Checks)
	x, err = w.Book.Find(ctx, x.Address)
	require.NoError(t, err)
	likeAnyOther(t, w, x)
}
