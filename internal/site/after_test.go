package site_test

import (
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/site"
	"tivset/internal/testing/sitetest"
)

// The outer of two sites goes, and nothing of the inner one.
func TestOuterSiteRemoved(t *testing.T) {
	w := sitetest.Demo(t)
	outer, err := w.Install(sitetest.Request("inkwater", "lockside.localhost"))
	require.NoError(t, err)
	inner, err := w.Install(sitetest.Request("lanternbox", "lockside.localhost/pictures"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, outer.Site.Folder, "parts", "mine.txt"), []byte("mine"), 0o600))
	done := w.Remove(site.RemoveRequest{Site: outer.Site.Address})
	assert.Equal(t, []string{outer.Site.Folder + "/parts/mine.txt", inner.Site.Folder}, done.Plan.Stays)
	assert.FileExists(t, filepath.Join(w.Root, outer.Site.Folder, "parts", "mine.txt"))
	assert.NoFileExists(t, filepath.Join(w.Root, outer.Site.Folder, "index.page"))
	e, _ := examined(t, w, inner.Site.Address)
	assert.True(t, e.OK, "%v", e.Checks)
	assert.FileExists(t, filepath.Join(w.Root, done.Backup.File))
}

// The last backup of a site that was removed brings it back.
func TestRemovedAndBack(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Service.Restore(ctx, site.RestoreRequest{Site: "lockside.localhost/journal"})
	require.ErrorContains(t, err, "no site has this address")
	done, err := w.Install(sitetest.Request("inkwater", "lockside.localhost/journal"))
	require.NoError(t, err)
	before := w.Dump(done.Site)
	w.Remove(site.RemoveRequest{Site: "journal"})
	back, err := w.Service.Restore(ctx, site.RestoreRequest{Site: "lockside.localhost/journal"})
	require.NoError(t, err)
	assert.Equal(t, before, w.Dump(back.Site))
	e, _ := examined(t, w, back.Site.Address)
	assert.True(t, e.OK, "%v", e.Checks)
}

// Of a database that is shared only the site's tables go, and only one half
// when only that is wanted.
func TestSharedDatabaseRemoved(t *testing.T) {
	onBoth(t, func(t *testing.T, w *sitetest.World) {
		first, err := w.Install(sitetest.Request("inkwater", "lockside.localhost/journal"))
		require.NoError(t, err)
		creds, err := w.Service.Reveal(ctx, first.Site.Address)
		require.NoError(t, err)
		shared := sitetest.Request("inkwater", "chandlery.localhost/news")
		for id, v := range map[string]string{"data.from": "existing", "data.name": first.Site.Database.Name, "data.user": first.Site.Database.User, "data.password": creds.Data.Reveal(), "data.tables": "two_"} {
			shared.Answers[id] = v
		}
		second, err := w.Install(shared)
		require.NoError(t, err)
		w.Query(second.Site, "DELETE FROM {tables}posts WHERE id = 2")
		w.Remove(site.RemoveRequest{Site: second.Site.Address, Only: "data", NoBackup: true})
		half, err := w.Service.Site(ctx, second.Site.Address)
		require.NoError(t, err)
		assert.Equal(t, "data", half.Gone)
		assert.FileExists(t, filepath.Join(w.Root, half.Folder, "index.page"))
		assert.NotContains(t, w.Dump(first.Site), "CREATE TABLE `two_")
		w.Remove(site.RemoveRequest{Site: second.Site.Address, NoBackup: true})
		_, err = w.Service.Site(ctx, second.Site.Address)
		require.Error(t, err)
		e, _ := examined(t, w, first.Site.Address)
		assert.True(t, e.OK, "%v", e.Checks)
	})
}

// A backup that is cut short, altered or somebody else's is refused before
// anything is touched.
func TestBackupsThatWillNotDo(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkwater", "lockside.localhost/journal"))
	require.NoError(t, err)
	made, err := w.Service.Backup(ctx, site.BackupRequest{Site: "journal", Into: t.TempDir()})
	require.NoError(t, err)
	whole, err := os.ReadFile(made.File)
	require.NoError(t, err)
	before := w.Snapshot()
	refused := func(name string, text []byte, words string) {
		file := filepath.Join(t.TempDir(), "x.tar.zst")
		require.NoError(t, os.WriteFile(file, text, 0o600))
		_, err := w.Service.Restore(ctx, site.RestoreRequest{Site: done.Site.Address, From: file, NoBackup: true})
		require.ErrorContains(t, err, words, name)
		assert.Equal(t, fault.Usage, fault.Of(err).Kind, name)
		same(t, before, w.Snapshot(), name)
	}
	for cut := 0; cut < len(whole); cut += len(whole)/7 + 1 {
		refused("cut short", whole[:cut], "cannot be used")
	}
	for at := 10; at < len(whole); at += len(whole)/11 + 1 {
		altered := append([]byte{}, whole...)
		altered[at] ^= 0x20
		refused("altered", altered, "cannot be used")
	}
	refused("none", []byte("hello"), "cannot be used")
	_, err = w.Service.Restore(ctx, site.RestoreRequest{Site: done.Site.Address, From: "20200101-000000.tar.zst"})
	require.ErrorContains(t, err, "no such backup")

	// Several within one second: each is kept, whatever becomes of the next.
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	w.Service.Now = func() time.Time { return at }
	for n := range 3 {
		_, err := w.Service.Backup(ctx, site.BackupRequest{Site: "journal"})
		require.NoError(t, err)
		w.Trip.Full = true
		_, err = w.Service.Backup(ctx, site.BackupRequest{Site: "journal"})
		w.Trip.Full = false
		require.Error(t, err)
		all, err := w.Service.Backups(ctx, "journal", "")
		require.NoError(t, err)
		assert.Len(t, all, n+1)
	}
	w.Service.Now = time.Now
	before = w.Snapshot()

	// The disk is full: the backup ends, and nothing of it is left.
	w.Trip.Full = true
	_, err = w.Service.Backup(ctx, site.BackupRequest{Site: "journal"})
	w.Trip.Full = false
	require.Error(t, err)
	same(t, before, w.Snapshot())
}

// Only the owner of the key opens a backup that is encrypted to it.
func TestEncryptedBackup(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("lanternbox", "lockside.localhost/pictures"))
	require.NoError(t, err)
	key, public := sitetest.AgeKey(t)
	made, err := w.Service.Backup(ctx, site.BackupRequest{Site: "pictures", To: []string{public}})
	require.NoError(t, err)
	assert.True(t, made.Encrypted)
	_, err = w.Service.Restore(ctx, site.RestoreRequest{Site: "pictures"})
	require.ErrorContains(t, err, "encrypted")
	_, err = w.Service.Restore(ctx, site.RestoreRequest{Site: "pictures", Identity: key})
	require.NoError(t, err)
	_, err = w.Service.Backup(ctx, site.BackupRequest{Site: "pictures", To: []string{"AGE-SECRET-KEY-1"}})
	require.ErrorContains(t, err, "cannot be encrypted")
}

func TestRotation(t *testing.T) {
	r, err := site.ParseRotation("2d, 2w,3m")
	require.NoError(t, err)
	day := func(text string) time.Time {
		at, err := time.Parse(time.DateOnly, text)
		require.NoError(t, err)
		return at
	}
	var all []time.Time
	for _, text := range []string{"2026-11-23", "2026-11-22", "2026-11-21", "2026-11-16", "2026-11-15", "2026-10-31", "2026-10-01", "2026-09-30", "2026-08-01"} {
		all = append(all, day(text))
	}
	assert.Equal(t, []time.Time{day("2026-11-21"), day("2026-11-16"), day("2026-11-15"), day("2026-10-01"), day("2026-08-01")}, r.Outdated(all))
	for _, bad := range []string{"", "7", "d7", "0d", "7x", "7d,"} {
		_, err := site.ParseRotation(bad)
		assert.Error(t, err, bad)
	}
	w := sitetest.Demo(t)
	_, err = w.Install(sitetest.Request("lanternbox", "lockside.localhost/pictures"))
	require.NoError(t, err)
	at := day("2026-11-20")
	w.Service.Now = func() time.Time { return at }
	for range 4 {
		at = at.Add(24 * time.Hour)
		_, err := w.Service.Backup(ctx, site.BackupRequest{Site: "pictures", Keep: "2d"})
		require.NoError(t, err)
	}
	left, err := w.Service.Backups(ctx, "pictures", "")
	require.NoError(t, err)
	require.Len(t, left, 2)
	assert.Equal(t, day("2026-11-24"), left[0].MadeAt)
}

// What stands against an update is said before anything is touched.
func TestUpdatesThatWillNotDo(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(older("inkwater", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	at := done.Site.Address
	folder := filepath.Join(w.Root, done.Site.Folder)
	plan := func(r site.UpdateRequest) (*site.UpdatePlan, error) {
		r.Site = at
		p, err := w.Service.PlanUpdate(ctx, r)
		if err == nil {
			t.Cleanup(func() { _ = p.Close() })
		}
		return p, err
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, "style.css"), []byte("mine"), 0o644))
	p, err := plan(site.UpdateRequest{})
	require.NoError(t, err)
	assert.Equal(t, []string{"style.css"}, p.Lost)
	_, err = plan(site.UpdateRequest{Release: "9.9.9"})
	assert.ErrorContains(t, err, "no release 9.9.9")

	// Its configuration was changed beyond finding; and was moved away.
	settings := filepath.Join(folder, "config", "settings.php")
	text, err := os.ReadFile(settings)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(settings, []byte(strings.ReplaceAll(string(text), "define('INK_RELEASE'", "define(RELEASE")), 0o640))
	before := w.Snapshot()
	_, err = w.Service.Update(ctx, p)
	require.ErrorContains(t, err, "changed by hand")
	same(t, before, w.Snapshot())
	require.NoError(t, os.Rename(settings, settings+".old"))
	before = w.Snapshot()
	_, err = w.Service.Update(ctx, p)
	require.ErrorContains(t, err, "not where the kit says")
	same(t, before, w.Snapshot())
	require.NoError(t, os.Remove(settings+".old"))
	require.NoError(t, os.WriteFile(settings, text, 0o640))

	// Two at once: the second is told who is at work.
	held := make(chan struct{})
	release := make(chan struct{})
	w.Demo.Standin.Database.OnStatement(func(statement string) {
		if strings.HasPrefix(statement, "UPDATE") {
			close(held)
			<-release
		}
	})
	ended := make(chan error, 1)
	go func() {
		_, err := w.Service.Update(ctx, p)
		ended <- err
	}()
	<-held
	w.Demo.Standin.Database.OnStatement(nil)
	second, err := plan(site.UpdateRequest{})
	require.NoError(t, err)
	_, err = w.Service.Update(ctx, second)
	require.ErrorContains(t, err, "another job is at work")
	assert.Equal(t, fault.Decision, fault.Of(err).Kind)
	close(release)
	require.NoError(t, <-ended)
	_, err = w.Service.Update(ctx, second)
	require.ErrorContains(t, err, "another job has changed the site")
	_, err = plan(site.UpdateRequest{})
	assert.ErrorIs(t, err, site.ErrCurrent)
	_, err = plan(site.UpdateRequest{Release: "1.3.2"})
	assert.ErrorContains(t, err, "older than")
}

// A copy or a move goes only where nothing is, and only to where a domain leads.
func TestCopiesThatWillNotDo(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkwater", "lockside.localhost/journal"))
	require.NoError(t, err)
	_, err = w.Install(sitetest.Request("lanternbox", "lockside.localhost/pictures"))
	require.NoError(t, err)
	away := httptest.NewServer(http.NotFoundHandler())
	t.Cleanup(away.Close)
	w.EditAccount(func(a *account.Account) {
		a.Domains = append(a.Domains, account.Domain{Name: "away.localhost", Folder: "web/chandlery", URL: "http://away.localhost:1234", Connect: strings.TrimPrefix(away.URL, "http://")})
	})
	before := w.Snapshot()
	for at, words := range map[string]string{
		"lockside.localhost/pictures": "a site is at this address already", "lockside.localhost/journal": "a site is at this address already",
		"quillmere.localhost": "something is in the way", "elsewhere.example/x": "domain",
	} {
		for _, move := range []bool{false, true} {
			_, err := w.Service.PlanCopy(ctx, site.CopyRequest{Site: done.Site.Address, At: at, Move: move})
			require.ErrorContains(t, err, words, at)
		}
	}
	err = copyOf(w, site.CopyRequest{Site: done.Site.Address, At: "away.localhost/x", Move: true})
	require.ErrorContains(t, err, "does not lead to this folder")
	same(t, before, w.Snapshot())
	e, _ := examined(t, w, done.Site.Address)
	assert.True(t, e.OK)
}

// An app that somebody else installed is found, read and looked after; nothing
// of it changes.
func TestAdopts(t *testing.T) {
	w := sitetest.Demo(t)
	for app, at := range apps {
		done, err := w.Install(sitetest.Request(app, at))
		require.NoError(t, err)
		creds, err := w.Service.Reveal(ctx, done.Site.Address)
		require.NoError(t, err)
		require.NoError(t, w.Service.Ledger.DropSite(ctx, done.Site.Address))
		require.NoError(t, w.Service.Vault.Forget("sites/"+done.Site.Address+"/"))
		before := w.Snapshot()
		_, err = w.Service.Adopt(ctx, site.AdoptRequest{At: at})
		require.ErrorContains(t, err, "name and password", app)
		_, err = w.Service.Adopt(ctx, site.AdoptRequest{At: at, Answers: answer.Given{"admin.name": "wharfinger", "admin.password": "wrong-" + creds.Password.Reveal()}})
		require.ErrorContains(t, err, "does not pass the check", app)
		_, err = w.Service.Site(ctx, done.Site.Address)
		require.Error(t, err, "nothing was recorded")
		found, err := w.Service.Adopt(ctx, site.AdoptRequest{At: at, Answers: answer.Given{"admin.name": "wharfinger", "admin.password": creds.Password.Reveal()}})
		require.NoError(t, err, app)
		assert.True(t, found.OK, "%s: %v", app, found.Checks)
		same(t, before, w.Snapshot(), "nothing of it changes")
		x, err := w.Service.Site(ctx, done.Site.Address)
		require.NoError(t, err)
		assert.Equal(t, done.Site.Entries, x.Entries, app)
		assert.Equal(t, done.Site.Release, x.Release)
		assert.Equal(t, done.Site.Title, x.Title, app)
		assert.True(t, x.Adopted)
		if x.Database != nil {
			assert.Equal(t, done.Site.Database.Name, x.Database.Name)
		}
	}
	_, err := w.Service.Adopt(ctx, site.AdoptRequest{At: "lockside.localhost/nothing"})
	assert.ErrorContains(t, err, "no app that a kit knows")
}

// A new password lets one in, and the old one does not.
func TestRenews(t *testing.T) {
	w := sitetest.Demo(t)
	for app, at := range apps {
		done, err := w.Install(sitetest.Request(app, at))
		require.NoError(t, err)
		before, err := w.Service.Reveal(ctx, done.Site.Address)
		require.NoError(t, err)
		after, err := w.Service.Renew(ctx, done.Site.Address)
		require.NoError(t, err, app)
		assert.NotEqual(t, before.Password.Reveal(), after.Password.Reveal())
		assert.Equal(t, before.Data.Reveal(), after.Data.Reveal())
		e, _ := examined(t, w, done.Site.Address)
		assert.True(t, e.OK, "%s: %v", app, e.Checks)
		names, err := w.Service.Vault.Names("kept/")
		require.NoError(t, err)
		assert.Empty(t, names)
	}
}

// Sites are listed as wanted, and a look at the accounts shows what is gone.
func TestLists(t *testing.T) {
	w := sitetest.Demo(t)
	for app, at := range apps {
		r := sitetest.Request(app, at)
		if app == "inkwater" {
			r.Release = "1.3.2"
		}
		_, err := w.Install(r)
		require.NoError(t, err)
	}
	names := func(l site.Listing) (out []string) {
		all, err := w.Service.List(ctx, l)
		require.NoError(t, err)
		for _, x := range all {
			out = append(out, x.App)
		}
		return out
	}
	assert.Len(t, names(site.Listing{}), len(apps))
	assert.Equal(t, []string{"inkwater"}, names(site.Listing{Newer: true}))
	assert.Equal(t, []string{"inkwater", "moorings", "towline"}, names(site.Listing{Words: []string{"LOCKSIDE"}, Sort: "app"}))
	assert.Equal(t, []string{"towline", "moorings", "inkwater"}, names(site.Listing{Words: []string{"lockside"}, Sort: "app", Reverse: true}))
	_, err := w.Service.List(ctx, site.Listing{Sort: "colour"})
	assert.ErrorContains(t, err, "cannot be sorted by colour")
	assert.Empty(t, names(site.Listing{Health: "gone"}))
	x, err := w.Service.Site(ctx, "chandlery.localhost")
	require.NoError(t, err)
	for _, entry := range x.Entries {
		require.NoError(t, os.RemoveAll(filepath.Join(w.Root, x.Folder, entry)))
	}
	assert.Equal(t, []string{"pennywharf"}, names(site.Listing{Health: "gone", Fresh: true}))
	all, err := w.Service.List(ctx, site.Listing{App: "inkwater"})
	require.NoError(t, err)
	assert.Positive(t, all[0].DatabaseBytes)
	assert.Equal(t, "features", all[0].NewerLevel)
	assert.Empty(t, all[0].Due, "its care takes fixes only")
}

// Updates that are due are made, and mailed about as the care wants it.
func TestUpdatesWhatIsDue(t *testing.T) {
	w := sitetest.Demo(t)
	for app, release := range map[string]string{"towline": "2.0.1", "lanternbox": "1.7.0"} {
		r := older(app, apps[app], release)
		r.Answers["care.updates"], r.Answers["care.mails"] = "all", "all"
		_, err := w.Install(r)
		require.NoError(t, err)
	}
	all, err := w.Service.Sites(ctx)
	require.NoError(t, err)
	for _, x := range all {
		done, err := w.Service.UpdateDue(ctx, x)
		if x.App == "towline" {
			require.Error(t, err)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, "1.8.2", done.Site.Release)
	}
	mails, err := filepath.Glob(filepath.Join(w.Demo.Standin.Mailbox, "*.eml"))
	require.NoError(t, err)
	text := ""
	for _, m := range mails {
		one, err := os.ReadFile(m)
		require.NoError(t, err)
		text += string(one)
	}
	assert.Contains(t, text, "Subject: Updated:")
	assert.Contains(t, text, "Subject: Not updated:")
}

// The sign-ins of the demo's apps want a token of their own page: then nothing
// is sent from elsewhere.
func TestEnters(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("moorings", "lockside.localhost/forum"))
	require.NoError(t, err)
	in, err := w.Service.Enter(ctx, done.Site.Address)
	require.NoError(t, err)
	assert.Empty(t, in.Action)
	assert.Equal(t, done.Site.URL+"sign-in.page", in.Page)
	page := filepath.Join(w.Root, done.Site.Folder, "sign-in.page")
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(page, []byte(strings.ReplaceAll(string(text), "verify", "print \"\"")), 0o644))
	in, err = w.Service.Enter(ctx, done.Site.Address)
	require.NoError(t, err)
	assert.Equal(t, "wharfinger", in.Values.Get("member"))
	assert.NotEmpty(t, in.Action)
}

// The journal of a copy holds no secret among the answers that came with it.
func TestCopiesKeepSecrets(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("towline", "lockside.localhost/help"))
	require.NoError(t, err)
	const planted = "planted-and-to-be-found-nowhere"
	copied := w.Copy(site.CopyRequest{Site: done.Site.Address, At: "chandlery.localhost/try", Answers: answer.Given{"mail-password": planted, "title": "A try"}})
	assert.Equal(t, "A try", copied.Site.Title)
	journals, err := filepath.Glob(filepath.Join(w.Home.Journals(), "*.jsonl"))
	require.NoError(t, err)
	require.Len(t, journals, 2)
	for _, name := range journals {
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		assert.NotContains(t, string(text), planted)
	}
	assert.Contains(t, w.Fetch(copied.Site.URL), "A try")
}
