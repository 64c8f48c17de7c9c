package kits_test

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/catalogue"
	"tivset/internal/app/debian"
	"tivset/internal/app/release"
	"tivset/internal/fault"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial"
	"tivset/internal/trial/servers"
	"tivset/kits"
)

// archives are had from the Debian archive that this machine is configured for, and
// kept in the user's cache folder from one run to the next.
func archives(t *testing.T) *release.Archives {
	t.Helper()
	cache, err := os.UserCacheDir()
	if err != nil {
		cache = os.TempDir()
	}
	folder := filepath.Join(cache, "tivset-test-archives")
	sources, err := debian.Configured(os.DirFS("/etc/apt"))
	require.NoError(t, err)
	if len(sources) == 0 {
		servers.Missing(t, "no Debian archive is configured on this machine")
	}
	return &release.Archives{Folder: folder, Client: http.DefaultClient, Debian: &debian.Archive{
		Client: http.DefaultClient, Folder: filepath.Join(folder, "debian"), Sources: sources, Now: time.Now,
		Keyring: "/usr/share/keyrings/debian-archive-keyring.gpg"}}
}

// byThisMachine has a world take archives from there.
func byThisMachine(t *testing.T, w *sitetest.World) {
	t.Helper()
	a := archives(t)
	w.Archives.Folder, w.Archives.Debian = a.Folder, a.Debian
}

// usual are the grounds on which apps are tried each time, those with the fewest files
// from afar; all others are for a sweep.
var usual = map[string][]string{
	"davical":      {"postgresql", "apache", "local"},
	"phpliteadmin": {"nginx", "ftps"},
	"phpmyadmin":   {"mariadb", "apache", "local"},
	"postfixadmin": {"postgresql", "apache", "ftps"},
	"roundcube":    {"mariadb", "nginx", "local"},
	"shaarli":      {"apache", "sftp"},
	"spip":         {"mariadb", "apache", "local"},
	"tt-rss":       {"postgresql", "nginx", "local"},
	"zoph":         {"mariadb", "apache", "local"},
}

// Each app on the shelves lives its whole life on real servers: on one ground each
// time, and in a sweep on all that its kit claims.
func TestShelves(t *testing.T) {
	servers.Need(t)
	all, faulty, err := catalogue.New(catalogue.Source{Name: "built-in", Files: kits.Files}).Cards()
	require.NoError(t, err)
	require.Empty(t, faulty)
	for _, k := range all {
		tried := &trial.Trial{Kits: catalogue.Source{Name: "built-in", Files: kits.Files}, App: k.App, Archives: archives(t)}
		if servers.Sweep(2) > 1 {
			tried.On = usual[k.App]
			if tried.On == nil {
				tried.On = []string{"sqlite", "nginx", "local"}
			}
		}
		grounds, err := tried.Grounds(context.Background())
		require.NoError(t, err, "%v", fault.Of(err))
		for _, g := range grounds {
			t.Run(k.App+" on "+g.Name(), func(t *testing.T) {
				t.Parallel()
				one := *tried
				one.Tell = func(l trial.Line) { told(t, l) }
				ok, err := one.Live(context.Background(), t, g)
				require.NoError(t, err, "%v", fault.Of(err))
				require.True(t, ok)
			})
		}
	}
}

// told notes what an act came to, and fails with what failed.
func told(t *testing.T, l trial.Line) {
	t.Helper()
	t.Logf("%s: %.1f s %.200s", l.Act, l.Took.Seconds(), l.Said)
	if l.Err != nil {
		f := fault.Of(l.Err)
		t.Errorf("%s: %v %s %s %v", l.Act, l.Err, f.Where, f.Remedy, f.Details)
	}
}

// A trial can fail: an app whose release 2.5.0 is broken fails there, after all that goes
// well, and a word that is no ground is refused.
func TestTrialSaysWhatFails(t *testing.T) {
	t.Parallel()
	var lines []trial.Line
	tried := &trial.Trial{Kits: chaos.Source(t), App: "restless", On: []string{"mariadb", "nginx", "local"},
		Archives: &release.Archives{Folder: t.TempDir(), Client: http.DefaultClient},
		Tell:     func(l trial.Line) { lines = append(lines, l) }}
	grounds, err := tried.Grounds(context.Background())
	require.NoError(t, err)
	require.Equal(t, []trial.Ground{{Engine: "mariadb", Web: "nginx", Reach: "local"}}, grounds)
	ok, err := tried.Live(context.Background(), t, grounds[0])
	require.NoError(t, err, "%v", fault.Of(err))
	assert.False(t, ok)
	last := lines[len(lines)-1]
	assert.Equal(t, "update to 2.5.0", last.Act)
	require.Error(t, last.Err)
	for _, l := range lines[:len(lines)-1] {
		assert.NoError(t, l.Err, l.Act)
	}
	tried.On = []string{"oracle"}
	_, err = tried.Grounds(context.Background())
	require.ErrorContains(t, err, "there is no oracle to try it on")
}
