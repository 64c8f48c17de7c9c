package update_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/update"
)

// What stands against an update is said before anything is touched.
func TestUpdatesThatWillNotDo(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	at := done.Site.Address
	folder := filepath.Join(w.Root, done.Site.Folder)
	plan := func(r update.Request) (*update.Plan, error) {
		r.Site = at
		p, err := update.Look(ctx, w.Desk, r)
		if err == nil {
			t.Cleanup(func() { _ = p.Close() })
		}
		return p, err
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, "style.css"), []byte("mine"), 0o644))
	p, err := plan(update.Request{})
	require.NoError(t, err)
	assert.Equal(t, []string{"style.css"}, p.Lost)
	_, err = plan(update.Request{Release: "9.9.9"})
	assert.ErrorContains(t, err, "no release 9.9.9")

	// Its configuration was changed beyond finding; and was moved away.
	settings := filepath.Join(folder, "config", "settings.php")
	text, err := os.ReadFile(settings)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(settings, []byte(strings.ReplaceAll(string(text), "define('INK_RELEASE'",
		"define(RELEASE")), 0o640))
	before := w.Snapshot()
	_, err = update.Update(ctx, w.Desk, p)
	require.ErrorContains(t, err, "changed by hand")
	sitetest.Same(t, before, w.Snapshot())
	require.NoError(t, os.Rename(settings, settings+".old"))
	before = w.Snapshot()
	_, err = update.Update(ctx, w.Desk, p)
	require.ErrorContains(t, err, "not where the kit says")
	sitetest.Same(t, before, w.Snapshot())
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
		_, err := update.Update(ctx, w.Desk, p)
		ended <- err
	}()
	<-held
	w.Demo.Standin.Database.OnStatement(nil)
	second, err := plan(update.Request{})
	require.NoError(t, err)
	_, err = update.Update(ctx, w.Desk, second)
	require.ErrorContains(t, err, "another job is at work")
	assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
	close(release)
	require.NoError(t, <-ended)
	_, err = update.Update(ctx, w.Desk, second)
	require.ErrorContains(t, err,
		"another job has changed the site meanwhile: update from 1.3.2 to 1.4.0 by a test, at its end")
	_, err = plan(update.Request{})
	assert.ErrorIs(t, err, update.ErrCurrent)
	_, err = plan(update.Request{Release: "1.3.2"})
	assert.ErrorContains(t, err, "older than")
}

// Updates that are due are made, and mailed about as the care wants it.
func TestUpdatesWhatIsDue(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	for app, release := range map[string]string{"towline": "2.0.1", "lampshelf": "1.7.0"} {
		r := sitetest.Older(app, sitetest.Apps[app], release)
		r.Answers["care.accepts"], r.Answers["care.notify"] = "breaking", "changes"
		_, err := w.Install(r)
		require.NoError(t, err)
	}
	all, err := w.Book.All(ctx)
	require.NoError(t, err)
	for _, x := range all {
		done, err := update.Due(ctx, w.Desk, x)
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

// A release that failed at a site and was put back is not due again, until there
// is another one; the owner can have it tried.
func TestAFailedReleaseIsNotTriedEveryNight(t *testing.T) {
	w := sitetest.Demo(t)
	r := sitetest.Older("towline", "lockside.localhost/help", "2.0.1")
	r.Answers["care.accepts"] = "breaking"
	done, err := w.Install(r)
	require.NoError(t, err)
	find := func() ledger.Site {
		x, err := w.Book.Find(ctx, done.Site.Address)
		require.NoError(t, err)
		return x
	}
	require.Equal(t, "2.1.0", find().Due)
	w.Trip.FailOn("web GET") // the account is not there: nothing was begun, and it is tried again
	_, err = update.Due(ctx, w.Desk, find())
	w.Trip.FailOn()
	require.Error(t, err)
	_, err = update.Due(ctx, w.Desk, find())
	require.ErrorContains(t, err, "berths")
	x := find()
	assert.Empty(t, x.Due)
	assert.Equal(t, "2.1.0", x.Newer, "it is there all the same")
	assert.Equal(t, "2.1.0", x.Tried.Release)
	e, fine := sitetest.Examined(t, w, x.Address)
	assert.False(t, fine["updates"], "%v", e.Checks)
	_, err = update.To(ctx, w.Desk, update.Request{Site: x.Address})
	require.ErrorContains(t, err, "berths", "the owner's word")

	x.Tried.Release = "2.0.2" // as when a newer one has come out since
	require.NoError(t, w.Book.Ledger.PutSite(ctx, x))
	assert.Equal(t, "2.1.0", find().Due)
	x.Tried.Release, x.Tried.Archive = "2.1.0", "another"
	require.NoError(t, w.Book.Ledger.PutSite(ctx, x))
	assert.Equal(t, "2.1.0", find().Due, "the release was mended")
}

// A server that the owner wrote into the configuration by another name stays: an
// update changes what it changes, and nothing else in that file.
func TestTheOwnersConfigurationStays(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	name := filepath.Join(w.Root, done.Site.Folder, "config/settings.php")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	changed := strings.Replace(string(text), "127.0.0.1:", "localhost:", 1)
	require.NotEqual(t, string(text), changed)
	require.NoError(t, os.WriteFile(name, []byte(changed), 0o640))
	_, err = update.To(ctx, w.Desk, update.Request{Site: done.Site.Address})
	require.NoError(t, err)
	text, err = os.ReadFile(name)
	require.NoError(t, err)
	assert.Equal(t, strings.ReplaceAll(changed, "1.3.2", "1.4.0"), string(text))
}
