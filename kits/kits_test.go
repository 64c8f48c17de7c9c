package kits_test

import (
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/app/catalogue"
	"tivset/internal/app/kit"
	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/plan"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/install"
	"tivset/kits"
)

func TestEveryKitIsWithoutMistakes(t *testing.T) {
	folders, err := fs.ReadDir(kits.Files, ".")
	require.NoError(t, err)
	require.NotEmpty(t, folders)
	for _, f := range folders {
		folder, err := fs.Sub(kits.Files, f.Name())
		require.NoError(t, err)
		_, err = kit.Read(folder, f.Name())
		assert.NoError(t, err)
	}
}

// reader sets up an account on real servers: nginx, php-fpm, MariaDB.
func reader(t *testing.T) (*sitetest.World, plan.Request) {
	t.Helper()
	php, err := exec.LookPath("php")
	require.NoError(t, err)
	d := servers.MariaDB(t)
	root := servers.AccountFolder(t)
	docroot := filepath.Join(root, "web/lockside")
	require.NoError(t, os.MkdirAll(docroot, 0o755))
	address := servers.PHPWeb(t, []servers.Site{{Name: "lockside.localhost", Root: docroot}})
	_, port, _ := strings.Cut(address, ":")
	file := fmt.Sprintf(`account: quillmere
files: local:%s
domains:
  - {name: lockside.localhost, folder: web/lockside, url: "http://lockside.localhost:%s", connect: "%s"}
databases:
  - {name: main, engine: mariadb, server: "%s", admin: {user: root, password: %q}, prefix: quill_}
runtime: {php: %q}
`, root, port, address, d.Address, "plain:"+d.Password, php)
	w := sitetest.Local(t, root, file, catalogue.Source{Name: "built-in", Files: kits.Files})
	w.Real = &d
	w.Hosting.Settle = hosting.UsualSettle
	byThisMachine(t, w)
	return w, plan.Request{App: "tt-rss", At: "lockside.localhost/news", Answers: answer.Given{
		"title": `News "of" the $lock's`, "admin.name": "wharfinger", "admin.email": "wharfinger@lockside.localhost"}}
}

func TestTTRSSOnRealServers(t *testing.T) {
	t.Parallel()
	w, request := reader(t)
	before := w.Snapshot()
	plan, err := w.Planner.Plan(context.Background(), request)
	require.NoError(t, err)
	for _, n := range plan.Needs {
		assert.True(t, n.OK, "%s: %s wanted, %s there", n.What, n.Wanted, n.Have)
	}
	assert.Equal(t, "PHP", plan.Needs[1].What)
	assert.Equal(t, "asked when it begins", plan.Needs[1].Have, "only the PHP that serves the site counts")
	done, err := install.Install(context.Background(), w.Desk, plan)
	require.NoError(t, err, fault.Of(err).Details)
	assert.Len(t, done.Checks, 6)
	for _, c := range done.Checks {
		assert.True(t, c.OK, c.Name)
	}
	t.Log("warnings:", done.Warnings)
	assert.NoDirExists(t, filepath.Join(w.Root, ".tivset"))
	assert.NoDirExists(t, filepath.Join(w.Root, done.Site.Folder, "install"), "the set-up pages were never there")

	creds, err := w.Book.Reveal(context.Background(), "news")
	require.NoError(t, err)
	for _, name := range []string{"config.php", "install/", "schema/ttrss_schema_mysql.sql"} {
		assert.NotContains(t, stranger(t, done.Site.URL+name), creds.Data.Reveal(), name)
	}
	gone, _ := demo.Difference(before, w.Snapshot())
	assert.Empty(t, gone)
}

func stranger(t *testing.T, address string) string {
	t.Helper()
	r, err := http.NewRequest(http.MethodGet, strings.Replace(address, "lockside.localhost", "127.0.0.1", 1), nil)
	require.NoError(t, err)
	r.Host = "lockside.localhost"
	answer, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer answer.Body.Close()
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	return string(text)
}

// The last step before a site is recorded is its check; here it fails.
func TestTTRSSUndoneAtItsLastStep(t *testing.T) {
	t.Parallel()
	w, request := reader(t)
	before := w.Snapshot()
	plan, err := w.Planner.Plan(context.Background(), request)
	require.NoError(t, err)
	w.Trip.Arm(0, 0)
	w.Trip.FailOn("query") // the check of the database, after all others
	_, err = install.Install(context.Background(), w.Desk, plan)
	require.ErrorContains(t, err, "check of the database")
	w.Trip.FailOn("")
	sitetest.Same(t, before, w.Snapshot())
}
