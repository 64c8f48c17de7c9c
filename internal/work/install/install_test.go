package install_test

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files/ftp"
	"tivset/internal/plan"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/install"
)

func TestInstallsAndChecks(t *testing.T) {
	sitetest.OnBoth(t, func(t *testing.T, w *sitetest.World) {
		for app, at := range sitetest.Apps {
			before := w.Snapshot()
			planned, err := w.Planner.Plan(context.Background(), sitetest.Request(app, at))
			require.NoError(t, err)
			sitetest.Same(t, before, w.Snapshot(), "a plan changes nothing")
			done, err := install.Install(context.Background(), w.Desk, planned)
			require.NoError(t, err)
			for _, c := range done.Checks {
				assert.True(t, c.OK, c.Name)
			}
			checks := 6
			if planned.Data == nil {
				checks = 5
			}
			assert.Len(t, done.Checks, checks)
			assert.Empty(t, done.Warnings)

			gone, come := demo.Difference(before, w.Snapshot())
			assert.Empty(t, gone, "nothing that was there has changed")
			assert.Equal(t, planned.Changes.Files, sitetest.CountFiles(come), "the review counts the files")
			assert.Equal(t, done.Site.Files, planned.Changes.Files)
			assert.Equal(t, done.Site.Bytes, planned.Changes.Bytes)
			for _, line := range come {
				inside := strings.Contains(line, planned.Place.Folder) || planned.Data != nil &&
					strings.Contains(line, planned.Data.Name) ||
					planned.Place.DataFolder != "" && (strings.Contains(line, planned.Place.DataFolder) ||
						strings.HasSuffix(line, " /data"))
				assert.True(t, inside, "outside of the review: %s", line)
			}
			assert.NoDirExists(t, filepath.Join(w.Root, ".tivset"), "the store goes when it is empty")
		}
		all, err := w.Book.All(context.Background())
		require.NoError(t, err)
		assert.Len(t, all, len(sitetest.Apps))
	})
}

// Each of many calls that an install makes fails once, and each time the account
// is as it was. Calls whose failure changes nothing may be survived.
func TestUndoneWhicheverCallFails(t *testing.T) {
	servers.Slow(t)
	stride := servers.Sweep(7)
	for _, app := range []string{"inkreach", "willowbench", "slateroom", "lampshelf"} {
		at := sitetest.Apps["willowbench"]
		t.Run(app, func(t *testing.T) {
			t.Parallel()
			w := sitetest.Demo(t)
			w.Hosting.Settle = 0
			w.Trip.Arm(0, 0)
			planned, err := w.Planner.Plan(context.Background(), sitetest.Request(app, at))
			require.NoError(t, err)
			w.Trip.Arm(0, 0)
			_, err = install.Install(context.Background(), w.Desk, planned)
			require.NoError(t, err)
			total := w.Trip.Calls()
			require.Greater(t, total, 50)
			failed := 0
			for n := 1; n <= total; n += stride {
				if !undoneAt(t, w, app, fmt.Sprintf("%s%d", at, n), n, n) {
					continue
				}
				failed++
			}
			t.Logf("%d of %d calls stop an install, one of %d tried", failed, total, stride)
			assert.Greater(t, failed, total*2/3/stride)
		})
	}
}

// undoneAt installs with some calls failing. It says whether that stopped the
// install, and makes sure that all is then as before.
func undoneAt(t *testing.T, w *sitetest.World, app, at string, from, to int) bool {
	t.Helper()
	w.Trip.Arm(0, 0)
	planned, err := w.Planner.Plan(context.Background(), sitetest.Request(app, at))
	require.NoError(t, err)
	before := w.Snapshot()
	w.Trip.Arm(from, to)
	done, err := install.Install(context.Background(), w.Desk, planned)
	failed := w.Trip.Failed
	w.Trip.Arm(0, 0)
	if err == nil {
		require.NotNil(t, done)
		return false
	}
	// sitetest.Undo finishes what had settled, and takes back what could not be noted.
	if fault.Of(err).Kind == fault.Incomplete && len(sitetest.Undo(t, w)) == 0 {
		_, err := w.Book.Find(context.Background(), planned.Place.URL)
		require.NoError(t, err)
		assert.NoDirExists(t, filepath.Join(w.Root, ".tivset"))
		return true
	}
	sitetest.Undo(t, w) // its end may only not have been noted
	sitetest.Same(t, before, w.Snapshot(), "call %d, %s: %v", from, failed, err)
	names, err := w.Book.Vault.Names("sites/" + strings.TrimPrefix(strings.TrimSuffix(planned.Place.URL, "/"), "http://") +
		"/")
	require.NoError(t, err)
	assert.Empty(t, names, "its secrets are gone too")
	return true
}

// From one call on everything fails, the undo too: something is left, the
// fault says so, and a later undo ends it.
func TestLeftThenUndone(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	w.Hosting.Settle, w.Desk.Patience = 0, 0
	before := w.Snapshot()
	for n := 10; n < 90; n += 7 {
		planned, err := w.Planner.Plan(context.Background(), sitetest.Request("willowbench", "lockside.localhost/forum"))
		require.NoError(t, err)
		w.Trip.Arm(n, 1<<30)
		_, err = install.Install(context.Background(), w.Desk, planned)
		w.Trip.Arm(0, 0)
		require.Error(t, err)
		f := fault.Of(err)
		require.Equal(t, fault.Incomplete, f.Kind, "call %d: %v", n, err)
		assert.Contains(t, f.Remedy, fault.Call("undo", f.Job))
		sitetest.Undo(t, w)
		sitetest.Same(t, before, w.Snapshot(), "call %d", n)
	}
}

func TestInterrupted(t *testing.T) {
	w := sitetest.Demo(t)
	before := w.Snapshot()
	planned, err := w.Planner.Plan(context.Background(), sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	w.Demo.Standin.Database.OnStatement(func(s string) {
		if strings.Contains(s, "CREATE TABLE") {
			cancel()
		}
	})
	_, err = install.Install(ctx, w.Desk, planned)
	require.ErrorContains(t, err, "interrupted")
	assert.Equal(t, fault.Failed, fault.Of(err).Kind)
	sitetest.Same(t, before, w.Snapshot())
}

func TestRefusesWhatIsInTheWay(t *testing.T) {
	w := sitetest.Demo(t)
	before := w.Snapshot()
	_, err := w.Install(sitetest.Request("inkreach", "quillmere.localhost"))
	f := fault.Of(err)
	assert.Equal(t, fault.NeedsConfirmation, f.Kind)
	require.Len(t, f.Details, 1)
	assert.Contains(t, f.Details[0], "index.html")
	sitetest.Same(t, before, w.Snapshot())

	require.NoError(t, os.WriteFile(filepath.Join(w.Root, "web/lockside/note"), nil, 0o644))
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/note"))
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind, "a file where the folder should be")
}

func TestSiteInsideASite(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("willowbench", "lockside.localhost/forum"))
	require.NoError(t, err)
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/forum"))
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
	assert.ErrorContains(t, err, "a site is at this address already")

	inner, err := os.ReadDir(filepath.Join(w.Root, "web/lockside/forum"))
	require.NoError(t, err)
	outer, err := w.Install(sitetest.Request("inkreach", "lockside.localhost"))
	require.NoError(t, err, "an outer site leaves the inner one alone")
	assert.Equal(t, 15, outer.Site.Files, "the inner site's files are not the outer one's")
	still, err := os.ReadDir(filepath.Join(w.Root, "web/lockside/forum"))
	require.NoError(t, err)
	assert.Len(t, still, len(inner))
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/admin"))
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind, "a folder of the outer site is occupied")
}

func TestInnerSiteWhereTheOuterWouldPutAFolder(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("willowbench", "lockside.localhost/admin"))
	require.NoError(t, err)
	before := w.Snapshot()
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost"))
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
	sitetest.Same(t, before, w.Snapshot())
}

// Of two installs at one place at the same time one is done and one refused.
func TestTwiceAtOnce(t *testing.T) {
	w := sitetest.Demo(t)
	request := sitetest.Request("inkreach", "lockside.localhost/journal")
	errs, planned := make([]error, 4), make([]*plan.Plan, 4)
	for i := range planned { // all of them before the first begins, which the others would see
		var err error
		planned[i], err = w.Planner.Plan(context.Background(), request)
		require.NoError(t, err)
	}
	var wait sync.WaitGroup
	for i := range errs {
		wait.Go(func() { _, errs[i] = install.Install(context.Background(), w.Desk, planned[i]) })
	}
	wait.Wait()
	done := 0
	for _, err := range errs {
		if err == nil {
			done++
			continue
		}
		assert.Contains(t, []fault.Kind{fault.NeedsConfirmation, fault.Failed}, fault.Of(err).Kind, "%v", err)
	}
	assert.Equal(t, 1, done)
	creds, err := w.Book.Reveal(context.Background(), "lockside.localhost")
	require.NoError(t, err, "the one that was refused did not take the other's secrets along")
	assert.False(t, creds.Password.Empty())
	all, err := w.Book.All(context.Background())
	require.NoError(t, err)
	require.Len(t, all, 1)
	names := strings.Count(w.Snapshot(), "database quill_")
	assert.Equal(t, 1, names)
}

// While a site comes to be in a folder nobody else works around it or in it; beside
// it they may, and look after sites that are there.
func TestNobodyElseAroundANewSite(t *testing.T) {
	w := sitetest.Demo(t)
	a, err := w.Home.Account(demo.AccountName)
	require.NoError(t, err)
	in, err := w.Hosting.Open(context.Background(), a)
	require.NoError(t, err)
	defer in.Close()
	mark := func(address, folder string, isNew bool) func() {
		job := "20260101-000000-" + map[bool]string{true: "newa", false: "olda"}[isNew]
		name := in.Store().Mark(address)
		require.NoError(t, in.SetMark(context.Background(), name, hosting.Mark{Job: job, Address: address, Who: "tern",
			Folder: folder, New: isNew}))
		return func() {
			require.NoError(t, in.DropMark(context.Background(), name, job, in.Store().Busy(), in.Store().Top()))
		}
	}
	before := w.Snapshot()
	for _, other := range []struct{ address, folder string }{{"chandlery.localhost", "web/chandlery"},
		{"chandlery.localhost/admin/news", "web/chandlery/admin/news"}} {
		for _, isNew := range []bool{true, false} {
			drop := mark(other.address, other.folder, isNew)
			_, err := w.Install(sitetest.Request("inkreach", "chandlery.localhost/admin"))
			require.ErrorContains(t, err, "another job is at work in a folder around this one, or in it")
			assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
			drop()
			sitetest.Same(t, before, w.Snapshot())
		}
	}
	defer mark("chandlery.localhost/adm", "web/chandlery/adm", true)()
	_, err = w.Install(sitetest.Request("inkreach", "chandlery.localhost/admin"))
	require.NoError(t, err, "%v", fault.Of(err))
}

// Of two installs at a root and at a folder that the root's app has, whenever the
// one begins, one is done, and whole, and the other refused with nothing left.
func TestRootAndFolderAtOnce(t *testing.T) {
	for _, order := range [][]string{{"", "/admin"}, {"/admin", ""}, {"at once"}} {
		for range 3 {
			w := sitetest.Demo(t)
			var plans []*plan.Plan
			for _, at := range []string{"", "/admin"} {
				p, err := w.Planner.Plan(context.Background(), sitetest.Request("inkreach", "chandlery.localhost"+at))
				require.NoError(t, err)
				plans = append(plans, p)
			}
			if order[0] == "/admin" {
				slices.Reverse(plans)
			}
			errs := make([]error, 2)
			var wait sync.WaitGroup
			for i, p := range plans {
				wait.Go(func() { _, errs[i] = install.Install(context.Background(), w.Desk, p) })
				if order[0] != "at once" {
					wait.Wait()
				}
			}
			wait.Wait()
			all, err := w.Book.All(context.Background())
			require.NoError(t, err)
			done := 0
			for i, err := range errs {
				if err == nil {
					done++
					e, err := w.Examiner.Check(context.Background(), all[0])
					require.NoError(t, err)
					assert.Empty(t, append(append(e.Added, e.Changed...), e.Missing...), "%v", order)
					continue
				}
				assert.NotEqual(t, fault.Incomplete, fault.Of(err).Kind, "%d: %v", i, err)
			}
			assert.LessOrEqual(t, done, 1, "%v", order)
			assert.Len(t, all, done)
			if order[0] != "at once" { // at once each may see the other, and both give way
				assert.Equal(t, 1, done, "%v", errs)
			}
			assert.Equal(t, done, strings.Count(w.Snapshot(), "database quill_"))
			assert.NotContains(t, w.Snapshot(), ".tivset/stage")
		}
	}
}

// A plan that was made before another install ended at its place is refused,
// and that site keeps its secrets.
func TestPlanOvertaken(t *testing.T) {
	w := sitetest.Demo(t)
	request := sitetest.Request("inkreach", "lockside.localhost/journal")
	late, err := w.Planner.Plan(context.Background(), request)
	require.NoError(t, err)
	done, err := w.Install(request)
	require.NoError(t, err)
	before := w.Snapshot()
	_, err = install.Install(context.Background(), w.Desk, late)
	require.ErrorContains(t, err, "a site is at this address already")
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
	sitetest.Same(t, before, w.Snapshot())
	creds, err := w.Book.Reveal(context.Background(), done.Site.Address)
	require.NoError(t, err)
	assert.Equal(t, done.Password.Reveal(), creds.Password.Reveal())
}

// Somebody on another machine, with a home of their own, is at work here.
func TestBusyElsewhere(t *testing.T) {
	w := sitetest.Demo(t)
	planned, err := w.Planner.Plan(context.Background(), sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	address := strings.TrimSuffix(strings.TrimPrefix(planned.Place.URL, "http://"), "/")
	sum := sha256.Sum256([]byte(address))
	mark := filepath.Join(w.Root, ".tivset/busy", hex.EncodeToString(sum[:8])+".json")
	require.NoError(t, os.MkdirAll(filepath.Dir(mark), 0o700))
	require.NoError(t, os.WriteFile(mark,
		[]byte(`{"job":"20260101-000000-abcd","address":"x","who":"merle on barge","since":"2026-01-01T00:00:00Z"}`), 0o600))
	before := w.Snapshot()
	_, err = install.Install(context.Background(), w.Desk, planned)
	require.ErrorContains(t, err, "another job is at work here")
	f := fault.Of(err)
	assert.Equal(t, fault.NeedsConfirmation, f.Kind)
	assert.Contains(t, f.Remedy, "merle on barge")
	assert.Contains(t, f.Remedy, fault.Call("undo", "20260101-000000-abcd"))
	sitetest.Same(t, before, w.Snapshot())
}

func TestServersThatWillNot(t *testing.T) {
	w := sitetest.Demo(t)
	before := w.Snapshot()
	fails := func(t *testing.T, words string) {
		t.Helper()
		_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
		require.ErrorContains(t, err, words)
		assert.Equal(t, fault.Failed, fault.Of(err).Kind)
		assert.NotEmpty(t, fault.Of(err).Remedy)
	}
	t.Run("site answers 500", func(t *testing.T) {
		w.Demo.Standin.Web.Break("/journal/", 500)
		fails(t, "answered 500")
		w.Demo.Standin.Web.Break("/journal/", 0)
	})
	t.Run("database is down", func(t *testing.T) {
		w.Demo.Standin.Database.Drop()
		fails(t, "does not answer")
		require.NoError(t, w.Demo.Standin.Database.Return())
	})
	t.Run("password is refused", func(t *testing.T) {
		password := "plain:no"
		w.EditAccount(func(a *account.Account) { a.Databases[0].Admin.Password = password })
		fails(t, "refused the user or password")
	})
	sitetest.Same(t, before, w.Snapshot())
}

// A server that ignores the app's deny rules would hand the configuration to
// everybody: such an install is undone.
func TestConfigurationThatComesBack(t *testing.T) {
	w := sitetest.Demo(t)
	w.Demo.Standin.Web.IgnoreRules(true)
	before := w.Snapshot()
	_, err := w.Install(sitetest.Request("willowbench", "lockside.localhost/forum"))
	require.ErrorContains(t, err, "shows the configuration to everybody")
	sitetest.Same(t, before, w.Snapshot())
}

func TestDiskFull(t *testing.T) {
	w := sitetest.Demo(t)
	planned, err := w.Planner.Plan(context.Background(), sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	before := w.Snapshot()
	w.Trip.Full = true
	_, err = install.Install(context.Background(), w.Desk, planned)
	w.Trip.Full = false
	require.ErrorContains(t, err, "no space left")
	assert.Contains(t, fault.Of(err).Remedy, "Make room")
	sitetest.Same(t, before, w.Snapshot())
}

// No secret is anywhere in the open: not in what is written here, nor in what
// is said.
func TestSecretsStaySecret(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	const mine = "Kranich-Teekanne-74-Ufer"
	r := sitetest.Request("willowbench", "lockside.localhost/forum")
	r.Answers["admin.password"] = mine
	done, err := w.Install(r)
	require.NoError(t, err)
	creds, err := w.Book.Reveal(context.Background(), done.Site.Address)
	require.NoError(t, err)
	assert.Equal(t, mine, creds.Password.Reveal())

	w.Demo.Standin.Web.Break("/again/", 500)
	r = sitetest.Request("willowbench", "lockside.localhost/again")
	r.Answers["admin.password"] = mine
	_, err = w.Install(r)
	require.Error(t, err)
	said := fmt.Sprintf("%v %+v %#v", err, fault.Of(err), done)
	for _, s := range []string{mine, creds.Data.Reveal()} {
		assert.NotContains(t, said, s)
		require.NoError(t, filepath.WalkDir(filepath.Dir(w.Home.Config), func(name string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() {
				return err
			}
			inDatabase := strings.Contains(name, "/demo/database/") || strings.HasSuffix(name,
				"/demo/account/web/lockside/forum/config/willowbench.ini")
			text, err := os.ReadFile(name)
			if err == nil && !inDatabase {
				assert.NotContains(t, string(text), s, name)
			}
			return err
		}))
	}
	info, err := os.Stat(w.Home.Vault())
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
}

// A stranger asks for every set-up address, without end, during the installs,
// follows every listing of a folder, and never gets to see or finish one; by
// whatever reach the account is used.
func TestNoStrangerGetsIn(t *testing.T) {
	servers.Slow(t)
	for reach, reached := range map[string]func(*sitetest.World){
		"local": func(*sitetest.World) {},
		"SFTP": func(w *sitetest.World) {
			sitetest.OverSFTP(t, w)
			_, err := w.Reach.Hosts.Trust(w.Demo.Standin.SSH.Address(), w.Demo.Standin.SSH.Fingerprint())
			require.NoError(t, err)
		},
		"FTP": func(w *sitetest.World) { sitetest.OverFTP(t, w, account.FTP) },
		"FTPS": func(w *sitetest.World) {
			sitetest.OverFTP(t, w, account.FTPS)
			_, err := ftp.Trust(ctx, w.Reach.Certificates, w.Demo.Standin.FTP.Address(), w.Demo.Standin.FTP.Fingerprint())
			require.NoError(t, err)
		},
	} {
		t.Run(reach, func(t *testing.T) {
			w := sitetest.Demo(t)
			w.Demo.Standin.Web.ListFolders(true)
			reached(w)
			strangers(t, w)
		})
	}
}

func strangers(t *testing.T, w *sitetest.World) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	var wait sync.WaitGroup
	found := make(chan string, 100)
	asked := 0
	wait.Go(func() {
		for ctx.Err() == nil {
			asked += ask(w, "/forum/", found) + wander(w, "/", found, 4)
		}
	})
	for range 3 {
		done, err := w.Install(sitetest.Request("willowbench", "lockside.localhost/forum"))
		require.NoError(t, err)
		_, _, err = w.Desk.TakeBack(ctx, done.Job)
		require.NoError(t, err)
	}
	cancel()
	wait.Wait()
	close(found)
	for f := range found {
		t.Error("a stranger got " + f)
	}
	t.Logf("%d questions", asked)
	assert.Greater(t, asked, 50)
}
