package reach_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/install"
)

// All apps are installed from elsewhere: files over SFTP, the database through
// the same connection.
func TestInstallsOverSFTP(t *testing.T) {
	servers.Slow(t)
	sitetest.OnBoth(t, func(t *testing.T, w *sitetest.World) {
		sitetest.OverSFTP(t, w)
		mustBeAccepted(t, w)
		_, err := w.Reach.Hosts.Trust(w.Demo.Standin.SSH.Address(), w.Demo.Standin.SSH.Fingerprint())
		require.NoError(t, err)
		allApps(t, w)
	})
}

// The same over FTP with TLS, whose certificate is accepted first.
func TestInstallsOverFTPS(t *testing.T) {
	servers.Slow(t)
	sitetest.OnBoth(t, func(t *testing.T, w *sitetest.World) {
		sitetest.OverFTP(t, w, account.FTPS)
		mustBeAccepted(t, w)
		_, err := ftp.Trust(ctx, w.Reach.Certificates, w.Demo.Standin.FTP.Address(), w.Demo.Standin.FTP.Fingerprint())
		require.NoError(t, err)
		allApps(t, w)
	})
}

// Plain FTP works too, and the review warns of it.
func TestInstallsOverFTP(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	sitetest.OverFTP(t, w, account.FTP)
	planned, err := w.Planner.Plan(ctx, sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	assert.Contains(t, strings.Join(planned.Warnings, "\n"), "plain FTP")
	allApps(t, w)
	w.EditAccount(func(a *account.Account) { a.Runtime.Folder = "" })
	_, err = w.Planner.Plan(ctx, sitetest.Request("slateroom", "slate-school.localhost"))
	assert.ErrorContains(t, err, "not known where the account lies")
}

// mustBeAccepted: a server that shows something unknown is not signed in to.
func mustBeAccepted(t *testing.T, w *sitetest.World) {
	t.Helper()
	before := w.Snapshot()
	_, err := w.Planner.Plan(ctx, sitetest.Request("inkreach", "lockside.localhost/journal"))
	f := fault.Of(err)
	require.Equal(t, fault.NeedsConfirmation, f.Kind, "%v", err)
	assert.Contains(t, strings.Join(fault.Calls(f.Remedy)[0], " "), "account trust quillmere SHA256:")
	sitetest.Same(t, before, w.Snapshot())
}

// allApps installs every demo app and takes it back.
func allApps(t *testing.T, w *sitetest.World) {
	t.Helper()
	for app, at := range sitetest.Apps {
		before := w.Snapshot()
		planned, err := w.Planner.Plan(ctx, sitetest.Request(app, at))
		require.NoError(t, err, app)
		sitetest.Same(t, before, w.Snapshot(), "a plan changes nothing")
		done, err := install.Install(ctx, w.Desk, planned)
		require.NoError(t, err, app)
		gone, come := demo.Difference(before, w.Snapshot())
		assert.Empty(t, gone)
		assert.Equal(t, planned.Changes.Files, sitetest.CountFiles(come), "the review counts the files")
		_, left, err := w.Desk.TakeBack(ctx, done.Job)
		require.NoError(t, err)
		assert.Empty(t, left)
		sitetest.Same(t, before, w.Snapshot())
	}
	parts, err := w.Accounts.Test(ctx, "quillmere")
	require.NoError(t, err)
	for _, p := range parts {
		assert.True(t, p.OK, "%s: %s", p.Name, p.Detail)
	}
}

// The same over a real OpenSSH server and a real database server.
func TestInstallsOverOpenSSH(t *testing.T) {
	w := sitetest.DemoOn(t, servers.MariaDB(t))
	s := servers.OpenSSH(t, "")
	w.EditAccount(func(a *account.Account) {
		a.Reach = "sftp://" + s.User + "@" + s.Address + w.Root
		a.Login = &account.Access{Key: s.KeyFile}
		a.Databases[0].ForSites = a.Databases[0].Server
		a.Databases[0].Server = account.Tunnel + w.Real.Socket
	})
	_, err := w.Reach.Hosts.Trust(s.Address, s.Fingerprint)
	require.NoError(t, err)
	before := w.Snapshot()
	for _, app := range []string{"willowbench", "slateroom"} {
		done, err := w.Install(sitetest.Request(app, "lockside.localhost/forum"))
		require.NoError(t, err, app)
		_, _, err = w.Desk.TakeBack(ctx, done.Job)
		require.NoError(t, err)
		sitetest.Same(t, before, w.Snapshot())
	}
	parts, err := w.Accounts.Test(ctx, "quillmere")
	require.NoError(t, err)
	assert.Equal(t, s.User == "root", strings.Contains(parts[0].Detail, "signs in as root"), parts[0].Detail)
}

// The line is cut again and again while an install runs: it ends with the site,
// or with the account as it was, at once or after an undo.
func TestLineThatIsCut(t *testing.T) {
	w := sitetest.Demo(t)
	sitetest.OverSFTP(t, w)
	w.Hosting.Settle = 0
	_, err := w.Reach.Hosts.Trust(w.Demo.Standin.SSH.Address(), w.Demo.Standin.SSH.Fingerprint())
	require.NoError(t, err)
	before := w.Snapshot()
	for _, moment := range []string{"CREATE DATABASE", "GRANT", "CREATE TABLE", "INSERT INTO", "UPDATE", "SELECT"} {
		planned, err := w.Planner.Plan(ctx, sitetest.Request("inkreach", "lockside.localhost/journal"))
		require.NoError(t, err)
		cut := false
		w.Demo.Standin.Database.OnStatement(func(s string) {
			if !cut && strings.Contains(s, moment) {
				cut = true
				w.Demo.Standin.SSH.Drop()
			}
		})
		done, err := install.Install(ctx, w.Desk, planned)
		w.Demo.Standin.Database.OnStatement(nil)
		assert.True(t, cut, moment)
		if err == nil {
			_, _, err = w.Desk.TakeBack(ctx, done.Job)
			require.NoError(t, err)
		} else if fault.Of(err).Kind == fault.Incomplete {
			sitetest.Undo(t, w)
		}
		sitetest.Same(t, before, w.Snapshot(), "%s: %v", moment, err)
	}
}

func TestRemoteAccountsThatWillNotDo(t *testing.T) {
	request := sitetest.Request("inkreach", "lockside.localhost/journal")
	for words, edit := range map[string]func(*account.Account){
		"refused the user, password or key": func(a *account.Account) { a.Login.Password = "plain:wrong" },
		"the account's folder is not there": func(a *account.Account) { a.Reach += "/none" },
		"the SSH server does not answer": func(a *account.Account) {
			a.Reach = "sftp://quill@127.0.0.1:9/srv/quillmere"
		},
		"the key cannot be read":              func(a *account.Account) { a.Login = &account.Access{Key: "/none"} },
		"the database server does not answer": func(a *account.Account) { a.Databases[0].Server = "tunnel:127.0.0.1:9" },
	} {
		v := sitetest.Demo(t)
		sitetest.OverSFTP(t, v)
		_, err := v.Reach.Hosts.Trust(v.Demo.Standin.SSH.Address(), v.Demo.Standin.SSH.Fingerprint())
		require.NoError(t, err)
		v.EditAccount(edit)
		before := v.Snapshot()
		_, err = v.Planner.Plan(ctx, request)
		require.ErrorContains(t, err, words)
		sitetest.Same(t, before, v.Snapshot())
	}
}
