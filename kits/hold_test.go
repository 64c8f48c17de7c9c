package kits_test

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/servers"
)

func TestHold(t *testing.T) {
	if os.Getenv("HOLD") == "" {
		t.Skip()
	}
	root := servers.AccountFolder(t)
	_, uid := servers.SiteUser(t)
	for _, dir := range []string{"web", "web/lockside", "web/apache", "data"} {
		require.NoError(t, os.Mkdir(filepath.Join(root, dir), 0o755))
		require.NoError(t, os.Chown(filepath.Join(root, dir), uid, uid))
	}
	web := servers.PHPWeb(t, []servers.Site{{Name: "lockside.localhost", Root: filepath.Join(root, "web/lockside")}})
	ap := servers.Apache(t, []servers.Site{{Name: "apache.localhost", Root: filepath.Join(root, "web/apache")}})
	m, p := servers.MariaDB(t), servers.PostgreSQL(t)
	port := func(s string) string { return s[len("127.0.0.1:"):] }
	text := fmt.Sprintf("account: quillmere\nreach: local:%s\nlogin: {}\ndomains:\n  - {name: lockside.localhost, folder: "+
		"web/lockside, url: \"http://lockside.localhost:%s\", connect: %q}\n  - {name: apache.localhost, folder: "+
		"web/apache, url: \"http://apache.localhost:%s\", connect: %q}\ndatabases:\n"+
		"  - {name: main, engine: mariadb, server: %q, admin: {user: %q, password: %q}, prefix: quill_}\n"+
		"  - {name: pg, engine: postgresql, server: %q, admin: {user: %q, password: %q}, prefix: quill_}\n"+
		"  - {name: lite, engine: sqlite, server: data}\nruntime: {folder: %q}\n",
		root, port(web), web, port(ap), ap, m.Address, m.User, "plain:"+m.Password, p.Address, p.User, "plain:"+p.Password, root)
	require.NoError(t, os.WriteFile("/tmp/try/account.yaml", []byte(text), 0o600))
	require.NoError(t, os.WriteFile("/tmp/try/root", []byte(root), 0o600))
	time.Sleep(170 * time.Minute)
}
