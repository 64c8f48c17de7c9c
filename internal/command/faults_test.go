package command

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
)

// twoSites installs an app twice, in an older release.
func twoSites(t *testing.T) (*sitetest.World, string, string) {
	t.Helper()
	w := sitetest.Demo(t)
	a, b := "lockside.localhost/one", "chandlery.localhost/two"
	for _, at := range []string{a, b} {
		_, err := w.Install(sitetest.Older("inkreach", at, "1.3.2"))
		require.NoError(t, err)
	}
	return w, a, b
}

func TestSeveralSitesAreOneDocument(t *testing.T) {
	w, a, b := twoSites(t)
	damage := func() {
		for _, at := range []string{"/web/lockside/one", "/web/chandlery/two"} {
			require.NoError(t, os.WriteFile(w.Root+at+"/index.page", []byte("damaged"), 0o644))
		}
	}
	damage()
	for _, call := range [][]string{{"update", a, b, "--dry-run"}, {"check", a, b, "--repair", "--yes"},
		{"update", a, b, "--yes"}} {
		said := run(t, context.Background(), w, append(call, "--json")...)
		assert.Zero(t, said.code, "%v: %s", call, said.err)
		var all []map[string]any
		require.NoError(t, json.Unmarshal([]byte(said.out), &all), "%v: one document: %s", call, said.out)
		assert.Len(t, all, 2)
	}
	damage()
	// one alone stays what it was; a failure stands where its site would
	said := run(t, context.Background(), w, "check", a, "--repair", "--yes", "--json")
	var one map[string]any
	require.NoError(t, json.Unmarshal([]byte(said.out), &one), said.out)
	said = run(t, context.Background(), w, "update", a, "nowhere.localhost/x", "--dry-run", "--json")
	assert.Equal(t, 2, said.code)
	var all []map[string]any
	require.NoError(t, json.Unmarshal([]byte(said.out), &all), said.out)
	require.NotEmpty(t, all)
	assert.Equal(t, "refused", all[len(all)-1]["outcome"])
}

func TestSitesOfAnAccountThatCannotBeReached(t *testing.T) {
	w, a, _ := twoSites(t)
	w.EditAccount(func(x *account.Account) {
		x.Reach = "sftp://quill@127.0.0.1:9" + w.Root // nobody listens there
		x.Login = &account.Access{Password: "plain:none"}
	})
	said := run(t, context.Background(), w, "sites", "--fresh")
	assert.Zero(t, said.code, said.err)
	assert.Contains(t, said.out, a[len("lockside.localhost"):])
	assert.Contains(t, said.err, "127.0.0.1:9", "it is said which account was not looked at")
}

// A list that cannot be read is no place where nothing is.
func TestRestoreWithABrokenLedger(t *testing.T) {
	w, a, _ := twoSites(t)
	said := run(t, context.Background(), w, "backup", a)
	require.Zero(t, said.code, said.err)
	for _, beside := range []string{"-wal", "-shm"} {
		_ = os.Remove(w.Home.Ledger() + beside)
	}
	require.NoError(t, os.WriteFile(w.Home.Ledger(), []byte("no ledger, whatever its name says"), 0o600))
	before := w.Snapshot()
	said = run(t, context.Background(), w, "restore", a, "--yes")
	assert.NotZero(t, said.code)
	assert.NotContains(t, said.err, "nothing is there")
	assert.Contains(t, said.err, "database", "the cause is said")
	sitetest.Same(t, before, w.Snapshot())
}

// What stands in the way of a restore is set aside with the option that is advised.
func TestRestoreToAPlaceThatIsTaken(t *testing.T) {
	w, a, _ := twoSites(t)
	require.Zero(t, run(t, context.Background(), w, "backup", a).code)
	before := w.Snapshot()
	refused := run(t, context.Background(), w, "restore", a, "--yes", "-a", "admin.password=Harbour-tide-72-lamps")
	assert.Equal(t, 2, refused.code, "an answer is not passed over")
	assert.Contains(t, refused.err, "Leave -a out")
	sitetest.Same(t, before, w.Snapshot())
	require.Zero(t, run(t, context.Background(), w, "remove", a, "--yes").code)
	at := w.Root + "/web/lockside/one"
	require.NoError(t, os.MkdirAll(at, 0o755))
	require.NoError(t, os.WriteFile(at+"/mine.txt", []byte("mine"), 0o644))
	said := run(t, context.Background(), w, "restore", a, "--yes")
	assert.NotZero(t, said.code)
	require.Contains(t, said.err, "-a occupied=set-aside")
	said = run(t, context.Background(), w, "restore", a, "--yes", "-a", "occupied=set-aside")
	assert.Zero(t, said.code, said.err)
	assert.NoFileExists(t, at+"/mine.txt")
	assert.FileExists(t, at+"/index.page")
}

// Ctrl-C is called by its name, not by the program's own words for it.
func TestInterruptedWhileSomethingIsLookedAt(t *testing.T) {
	w, a, b := twoSites(t)
	ctx, stop := context.WithCancel(context.Background())
	stop()
	for _, call := range [][]string{{}, {"sites"}, {"sites", "--fresh"}, {"show", a}, {"check", a, b}, {"sign-in", a},
		{"update", a, "--dry-run"}, {"backup", a}, {"jobs"}, {"install", "willowbench", "--at", "lockside.localhost/forum"},
		{"account", "test"}, {"remove", a, "--yes"}} {
		said := run(t, ctx, w, call...)
		assert.NotContains(t, said.out+said.err, "context canceled", "%v", call)
	}
}

// A log is added to a file in a folder that is there; for a name that was mistyped no folder is made.
func TestALogThatCannotBeWritten(t *testing.T) {
	w, _, _ := twoSites(t)
	dir := t.TempDir()
	said := run(t, context.Background(), w, "sites", "--log", filepath.Join(dir, "mistyped", "whole.log"), "--json")
	assert.Equal(t, int(fault.Usage), said.code)
	assert.Contains(t, said.out, "in a folder that is there")
	assert.NoDirExists(t, filepath.Join(dir, "mistyped"))
	said = run(t, context.Background(), w, "sites", "--log", filepath.Join(dir, "whole.log"), "--json")
	assert.Zero(t, said.code, said.err)
	text, err := os.ReadFile(filepath.Join(dir, "whole.log"))
	require.NoError(t, err)
	assert.Contains(t, string(text), "command begins")
}
