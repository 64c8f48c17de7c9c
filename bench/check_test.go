//go:build bench

package bench

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tivset/internal/check"
	"tivset/internal/hosting/account"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

// asked is a web server in front of another that notes what it is asked for, and
// how much of it at once.
type asked struct {
	mu        sync.Mutex
	now, most int
	all       []string // curl's arguments
}

func (a *asked) take() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	all := a.all
	a.all, a.most = nil, 0
	return all
}

func inFront(t *testing.T, of string) (*asked, string) {
	a := &asked{}
	target, err := url.Parse("http://" + of)
	require.NoError(t, err)
	forward := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(target)
		r.Out.Host = r.In.Host
	}}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		a.mu.Lock()
		a.now++
		a.most = max(a.most, a.now)
		a.all = append(a.all, "-X "+r.Method+" -H Host:"+r.Host+" http://"+of+r.URL.RequestURI())
		a.mu.Unlock()
		forward.ServeHTTP(w, r)
		a.mu.Lock()
		a.now--
		a.mu.Unlock()
	}))
	t.Cleanup(s.Close)
	return a, strings.TrimPrefix(s.URL, "http://")
}

// curls asks for the same, one after the other.
func curls(t *testing.T, all []string) {
	for _, one := range all {
		args := append([]string{"-s", "-o", "/dev/null", "--data", ""}, strings.Fields(one)...)
		require.NoError(t, exec.Command("curl", args...).Run())
	}
}

// A check takes less time than the requests that it makes, one after the other:
// those that do not depend on each other are made side by side.
func TestCheck(t *testing.T) {
	for _, pace := range []time.Duration{0, 300 * time.Millisecond} {
		w, a := slowSites(t, pace, 1)
		x := sitesOf(t, w)[0]
		_, err := w.Examiner.Check(context.Background(), x) // tries a wrong password, which only some do
		require.NoError(t, err)
		x = sitesOf(t, w)[0]
		a.take()
		ours := median(5, func() {
			a.take()
			done, err := w.Examiner.Check(context.Background(), x)
			require.NoError(t, err)
			works(t, done)
		})
		most := a.most
		all := a.take()
		theirs := median(5, func() { curls(t, all) })
		fmt.Printf(
			"check of a site whose pages take %s more: %.2f s, at most %d of %d requests at once; the same requests by "+
				"curl one after the other: %.2f s; ratio %.2f (limit 0.7)\n",
			pace,
			ours.Seconds(),
			most,
			len(all),
			theirs.Seconds(),
			ours.Seconds()/theirs.Seconds(),
		)
	}
}

// works makes sure that a check found what it is about: this nginx denies nothing, and
// that is all that may be wrong.
func works(t *testing.T, e check.Examined) {
	for _, c := range e.Checks {
		require.True(t, c.OK || check.IsExposure(c.Name), "%v", c)
	}
}

// Many sites of an account are checked side by side.
func TestFiftyChecks(t *testing.T) {
	w, a := slowSites(t, 100*time.Millisecond, 50)
	ctx, all := context.Background(), sitesOf(t, w)
	_, err := w.Examiner.CheckAll(ctx, all, nil)
	require.NoError(t, err)
	all = sitesOf(t, w)
	a.take()
	alone := median(1, func() {
		for _, x := range all {
			_, err := w.Examiner.Check(ctx, x)
			require.NoError(t, err)
		}
	})
	requests := a.take()
	together := median(1, func() {
		done, err := w.Examiner.CheckAll(ctx, all, nil)
		require.NoError(t, err)
		for _, e := range done {
			works(t, e)
		}
	})
	most := a.most
	by := median(1, func() { curls(t, requests) })
	fmt.Printf(
		"check of 50 sites of one account: %.1f s, at most %d requests at once (limit 4); one site after the other: "+
			"%.1f s, ratio %.1f (limit 4); their %d requests by curl one after the other: %.1f s, ratio %.1f\n",
		together.Seconds(),
		most,
		alone.Seconds(),
		alone.Seconds()/together.Seconds(),
		len(requests),
		by.Seconds(),
		by.Seconds()/together.Seconds(),
	)
}

func sitesOf(t *testing.T, w *sitetest.World) []ledger.Site {
	all, err := w.Book.Ledger.Sites(context.Background())
	require.NoError(t, err)
	return all
}

// slowSites installs sites on PHP whose pages take so much longer.
func slowSites(t *testing.T, pace time.Duration, n int) (*sitetest.World, *asked) {
	first := filepath.Join(t.TempDir(), "first.php")
	require.NoError(t, os.Chmod(filepath.Dir(first), 0o755))
	require.NoError(t, os.Chmod(filepath.Dir(filepath.Dir(first)), 0o755))
	require.NoError(t, os.WriteFile(first, nil, 0o644))
	g := chaos.NewGround(t, servers.PHPWeb, "auto_prepend_file = "+first, "opcache.validate_timestamps = 1",
		"opcache.revalidate_freq = 0")
	w := g.World(t, "local")
	a, at := inFront(t, g.Web)
	for i := range n {
		_, err := w.Install(chaos.Request(fmt.Sprintf("lockside.localhost/s%02d", i), "1.0.0"))
		require.NoError(t, err)
	}
	w.EditAccount(func(acc *account.Account) {
		for i := range acc.Domains {
			acc.Domains[i].Connect = at
		}
	})
	require.NoError(t, os.WriteFile(first, fmt.Appendf(nil, "<?php usleep(%d);", pace.Microseconds()), 0o644))
	time.Sleep(3 * time.Second)
	return w, a
}
