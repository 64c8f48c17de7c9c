package reach_test

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/standin/ftpd"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// Servers are odd. Where an install can be made all the same it is; else it is
// undone, and said why.
func TestOddFTPServers(t *testing.T) {
	servers.Slow(t)
	for name, c := range map[string]struct {
		odd   ftpd.Oddities
		words string // of the failure; "" where there is none
	}{
		"two connections":     {ftpd.Oddities{Lines: 2}, ""},
		"hangs up after each": {ftpd.Oddities{CloseEachFile: true}, ""},
		"knows little":        {ftpd.Oddities{NoFacts: true, NoEPSV: true, OtherAddressed: true}, ""},
		"full":                {ftpd.Oddities{Space: 4000}, "no space left"},
		"read-only in part":   {ftpd.Oddities{ReadOnly: "web/lockside/journal"}, "permission denied"},
		"read-only":           {ftpd.Oddities{ReadOnly: "."}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			w := sitetest.Demo(t)
			sitetest.OverFTP(t, w, account.FTP)
			if name == "read-only" {
				c.odd.ReadOnly, c.words = ".tivset", "permission denied"
			}
			w.Demo.Standin.FTP.Be(c.odd)
			before := w.Snapshot()
			done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			if c.words != "" {
				require.ErrorContains(t, err, c.words)
				assert.Equal(t, fault.Failed, fault.Of(err).Kind)
				assert.NotEmpty(t, fault.Of(err).Remedy)
				sitetest.Same(t, before, w.Snapshot())
				return
			}
			require.NoError(t, err)
			_, _, err = w.Desk.TakeBack(ctx, done.Job)
			require.NoError(t, err)
			sitetest.Same(t, before, w.Snapshot())
		})
	}
}

// A line that drops again and again does not end an install over FTP.
func TestDroppedFTPLines(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	sitetest.OverFTP(t, w, account.FTPS)
	_, err := ftp.Trust(ctx, w.Reach.Certificates, w.Demo.Standin.FTP.Address(), w.Demo.Standin.FTP.Fingerprint())
	require.NoError(t, err)
	before := w.Snapshot()
	over := make(chan struct{})
	go func() {
		for {
			select {
			case <-over:
				return
			case <-time.After(300 * time.Millisecond):
				w.Demo.Standin.FTP.Drop()
			}
		}
	}()
	done, err := w.Install(sitetest.Request("towline", "lockside.localhost/help"))
	close(over)
	require.NoError(t, err)
	_, _, err = w.Desk.TakeBack(ctx, done.Job)
	require.NoError(t, err)
	sitetest.Same(t, before, w.Snapshot())
}

// Where a helper of the host's makes databases, installs use it.
func TestDatabasesMadeByAHelper(t *testing.T) {
	servers.Need(t, "jq", "mariadb")
	d := servers.MariaDB(t)
	w := sitetest.DemoOn(t, d)
	login := filepath.Join(t.TempDir(), "login.cnf")
	require.NoError(t, os.WriteFile(login, []byte("[client]\nsocket="+d.Socket+
		"\nuser=root\npassword=\"a root's password, with '\\\" in it\"\n"), 0o600))
	t.Setenv("MAKE_DATABASE_LOGIN", login)
	t.Setenv("MAKE_DATABASE_PREFIX", "quill_")
	helper, err := filepath.Abs("../../../docs/samples/make-database")
	require.NoError(t, err)
	w.EditAccount(func(a *account.Account) {
		a.Databases[0].Admin, a.Databases[0].Make, a.Databases[0].Helper = nil, account.Helper, []string{helper}
	})
	before := w.Snapshot()
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	assert.NotEqual(t, before, w.Snapshot())
	_, _, err = w.Desk.TakeBack(ctx, done.Job)
	require.NoError(t, err)
	sitetest.Same(t, before, w.Snapshot())
	broken := filepath.Join(t.TempDir(), "broken")
	require.NoError(t, os.WriteFile(broken,
		[]byte("#!/bin/sh\ngrep -q look && echo '{\"ok\": true, \"version\": \"10.11.0\"}' || echo nonsense\n"), 0o755))
	w.EditAccount(func(a *account.Account) { a.Databases[0].Helper = []string{broken} })
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.ErrorContains(t, err, "answered what is no JSON")
}
