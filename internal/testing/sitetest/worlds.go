package sitetest

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/account"
	"tivset/internal/plan"
	"tivset/internal/trial/servers"
)

// Apps are the demo apps, and where tests install them.
var Apps = map[string]string{
	"inkreach": "lockside.localhost/journal", "willowbench": "lockside.localhost/forum",
	"pennywharf": "chandlery.localhost",
	"slateroom":  "slate-school.localhost", "lampshelf": "quillmere.localhost/pictures",
	"towline": "lockside.localhost/help",
}

// OnBoth runs a test on the stand-in's database server and on a real one.
func OnBoth(t *testing.T, test func(*testing.T, *World)) {
	t.Run("stand-in", func(t *testing.T) { test(t, Demo(t)) })
	t.Run("MariaDB", func(t *testing.T) { test(t, DemoOn(t, servers.MariaDB(t))) })
}

// Older is a request for a release that is not the newest.
func Older(app, at, release string) plan.Request {
	r := Request(app, at)
	r.Release = release
	return r
}

// OverSFTP has the account reached over the stand-in's SFTP server, and its
// database through that connection.
func OverSFTP(t *testing.T, w *World) {
	t.Helper()
	s := w.Demo.Standin.SSH
	w.EditAccount(func(a *account.Account) {
		a.Reach = "sftp://quill@" + s.Address() + w.Root
		a.Login = &account.Access{Password: "plain:" + w.Demo.Password}
		a.Databases[0].ForSites = a.Databases[0].Server
		a.Databases[0].Server = account.Tunnel + a.Databases[0].Server
	})
}

// OverFTP has the account reached over the stand-in's FTP server.
func OverFTP(t *testing.T, w *World, line account.Line) {
	t.Helper()
	w.EditAccount(func(a *account.Account) {
		a.Reach = line.Scheme + "://quill@" + w.Demo.Standin.FTP.Address() + "/"
		a.Login = &account.Access{Password: "plain:" + w.Demo.Password}
		a.Runtime.Folder = w.Root
	})
}

// PHP sets up a stand-in for the account's interpreter: it answers what it is told,
// whatever it is asked.
func PHP(t *testing.T, w *World, answers string) {
	t.Helper()
	name := filepath.Join(t.TempDir(), "php")
	require.NoError(t, os.WriteFile(name, []byte("#!/bin/sh\ncat >/dev/null\n"+answers+"\n"), 0o700))
	w.EditAccount(func(a *account.Account) { a.Runtime.PHP = name })
}
