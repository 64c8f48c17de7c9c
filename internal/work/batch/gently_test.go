package batch_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/standin/ftpd"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/batch"
)

// six installs a course of six, all at once, and sees each.
func six(t *testing.T, w *sitetest.World) {
	t.Helper()
	var rows strings.Builder
	rows.WriteString("number,at,teacher\n")
	for n := range 6 {
		fmt.Fprintf(&rows, "%d,lockside.localhost/c%d,x\n", n, n)
	}
	b := looked(t, w, rows.String())
	b.Carry(ctx, w.Desk, batch.How{Limits: batch.AtOnce(6), Patient: true})
	for _, r := range b.Rows {
		require.NoError(t, r.Err, r.At())
		e, _ := sitetest.Examined(t, w, installed(r).Site.Address)
		assert.True(t, e.OK, r.At())
	}
}

// Jobs in an account share its connection, and the first that ends leaves it to the others.
func TestSideBySideOverSFTP(t *testing.T) {
	w := sitetest.Demo(t)
	sitetest.OverSFTP(t, w)
	_, err := w.Reach.Hosts.Trust(w.Demo.Standin.SSH.Address(), w.Demo.Standin.SSH.Fingerprint())
	require.NoError(t, err)
	six(t, w)
}

// A server with few connections is made do with: nothing fails because of it.
func TestSideBySideOverFewConnections(t *testing.T) {
	w := sitetest.Demo(t)
	w.Demo.Standin.FTP.Be(ftpd.Oddities{Lines: 3})
	sitetest.OverFTP(t, w, account.FTPS)
	_, err := ftp.Trust(ctx, w.Reach.Certificates, w.Demo.Standin.FTP.Address(), w.Demo.Standin.FTP.Fingerprint())
	require.NoError(t, err)
	six(t, w)
}

// A database user who may not sign in as often as jobs want to is waited for.
func TestSideBySideWithFewDatabaseConnections(t *testing.T) {
	servers.Slow(t)
	d := servers.MariaDB(t)
	db := d.Open(t, "")
	for _, statement := range []string{"CREATE USER few@'%' IDENTIFIED BY 'few' WITH MAX_USER_CONNECTIONS 1",
		"GRANT ALL ON *.* TO few@'%' WITH GRANT OPTION"} {
		_, err := db.Exec(statement)
		require.NoError(t, err)
	}
	w := sitetest.DemoOn(t, d)
	w.EditAccount(func(a *account.Account) {
		a.Databases[0].Admin.User, a.Databases[0].Admin.Password = "few", "plain:few"
	})
	six(t, w)
}

// A web server that bears few visits a second is asked more slowly, and by fewer.
func TestSideBySideWithFewVisits(t *testing.T) {
	w := sitetest.Demo(t)
	a, err := w.Home.Account(demo.AccountName)
	require.NoError(t, err)
	to, err := url.Parse("http://" + a.Domains[0].Connect)
	require.NoError(t, err)
	forward := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(to)
		r.Out.Host = r.In.Host
	}}
	var mu sync.Mutex
	second, visits, refused := int64(0), 0, 0
	s := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		mu.Lock()
		if now := time.Now().Unix(); now != second {
			second, visits = now, 0
		}
		visits++
		over := visits > 40
		if over {
			refused++
		}
		mu.Unlock()
		if over {
			rw.Header().Set("Retry-After", "1")
			rw.WriteHeader(http.StatusTooManyRequests)
			return
		}
		forward.ServeHTTP(rw, r)
	}))
	t.Cleanup(s.Close)
	w.EditAccount(func(a *account.Account) {
		for i := range a.Domains {
			a.Domains[i].Connect = strings.TrimPrefix(s.URL, "http://")
		}
	})
	six(t, w)
	assert.NotZero(t, refused)
}
