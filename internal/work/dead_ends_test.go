package work_test

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer"
	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/adopt"
	"tivset/internal/work/remove"
)

// says makes sure that a remedy names a call.
func says(t *testing.T, err error, call ...string) {
	t.Helper()
	require.Error(t, err)
	assert.Contains(t, fault.Calls(fault.Of(err).Remedy), call, "%v: %s", err, fault.Of(err).Remedy)
}

// A job whose journal is lost, empty or torn in the middle can be ended: its place
// is free again, and what of it lies in the store is named.
func TestJobsWithoutAJournal(t *testing.T) {
	for what, spoil := range map[string]func(name string) error{
		"lost":  os.Remove,
		"empty": func(name string) error { return os.Truncate(name, 0) },
		"torn": func(name string) error {
			text, err := os.ReadFile(name)
			if err != nil {
				return err
			}
			return os.WriteFile(name, append([]byte("{\"n\":0,\"st{"), text...), 0o600)
		},
	} {
		t.Run(what, func(t *testing.T) {
			w := sitetest.Demo(t)
			w.Trip.Dies("rename web/lockside/journal", 1)
			_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			w.Trip.Arm(0, 0)
			require.Error(t, err)
			id := fault.Of(err).Job
			require.NotEmpty(t, id)
			require.NoError(t, spoil(filepath.Join(w.Home.Journals(), id+".jsonl")))
			_, err = w.Desk.Undo(ctx, id)
			says(t, err, "undo", id, "--give-up")
			_, err = w.Desk.Resume(ctx, id)
			says(t, err, "undo", id, "--give-up")
			_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			require.Error(t, err, "the place is still held")
			done, err := w.Desk.GiveUp(ctx, id)
			require.NoError(t, err)
			assert.NoError(t, done.Seen)
			assert.Equal(t, 1, done.Marks)
			assert.Equal(t, []string{".tivset/stage/" + id}, done.Left)
			left, err := w.Desk.Unfinished(ctx)
			require.NoError(t, err)
			assert.Empty(t, left)
			_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
			require.NoError(t, err, "%v", fault.Of(err))
			_, err = w.Desk.GiveUp(ctx, id)
			require.Error(t, err)
		})
	}
}

// A host that is gone, and a domain that has another port: for each there is a way
// out, and it is said.
func TestHostsAndDomainsThatAreGone(t *testing.T) {
	w := sitetest.Demo(t)
	gone, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	before := w.Snapshot()
	_, err = w.Sites.Forget(ctx, gone.Site.Address, false)
	says(t, err, "forget", gone.Site.Address, "--anyway")

	// The domain has another name now; the files are where they were.
	creds, err := w.Book.Reveal(ctx, gone.Site.Address)
	require.NoError(t, err)
	w.EditAccount(func(a *account.Account) {
		i := slices.IndexFunc(a.Domains, func(d account.Domain) bool { return d.Folder == "web/lockside" })
		a.Domains[i].URL = a.Domains[i].URL[:len(a.Domains[i].URL)-len(a.Domains[i].Name)] + a.Domains[i].Name
		a.Domains = append(a.Domains[:i:i], a.Domains[i+1:]...)
		chandlery := slices.IndexFunc(a.Domains, func(d account.Domain) bool { return d.Name == "chandlery.localhost" })
		a.Domains[chandlery].Folder = "web/lockside"
	})
	_, err = w.Examiner.Check(ctx, gone.Site)
	says(t, err, "forget", gone.Site.Address, "--anyway")
	says(t, err, "adopt", "ADDRESS")
	forgotten, err := w.Sites.Forget(ctx, gone.Site.Address, true)
	require.NoError(t, err)
	assert.NotEmpty(t, forgotten.Stands)
	sitetest.Same(t, before, w.Snapshot(), "nothing in the account is touched")
	assert.NotEmpty(t, creds.Password.Reveal())

	// The host is gone.
	w = sitetest.Demo(t)
	lost, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	w.EditAccount(func(a *account.Account) { a.Reach = "local:" + filepath.Join(w.Root, "nowhere") })
	_, err = w.Sites.Forget(ctx, lost.Site.Address, false)
	says(t, err, "forget", lost.Site.Address, "--anyway")
	forgotten, err = w.Sites.Forget(ctx, lost.Site.Address, true)
	require.NoError(t, err)
	assert.Error(t, forgotten.Unseen)
	assert.Empty(t, forgotten.Stands, "it was not looked at")
	_, err = w.Book.Find(ctx, lost.Site.Address)
	require.Error(t, err)
	_, err = adopt.Adopt(ctx, w.Desk, adopt.Request{At: lost.Site.URL, Answers: answer.Given{}})
	require.Error(t, err)
}

// A vault with another key is not called empty.
func TestAVaultWithAnotherKey(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	other := sitetest.Demo(t)
	_, err = other.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	text, err := os.ReadFile(other.Home.VaultKey())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(w.Home.VaultKey(), text, 0o600))
	_, err = w.Book.Reveal(ctx, done.Site.Address)
	assert.ErrorContains(t, err, "does not open with its key")
	_, err = w.Examiner.Check(ctx, done.Site)
	assert.ErrorContains(t, err, "does not open with its key")
}

// A folder of the store that the host does not let go, for the web server's user
// wrote into it: a removal ends all the same and names it; an undo that fails each
// time can be given up.
func TestFoldersThatCannotBeTakenAway(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	w.Trip.Keeps(".tivset/stage/")
	p, err := remove.Look(ctx, w.Desk, remove.Request{Site: done.Site.Address, NoBackup: true})
	require.NoError(t, err)
	out, err := remove.Remove(ctx, w.Desk, p)
	require.NoError(t, err, "%v", fault.Of(err))
	require.NoError(t, p.Close())
	assert.Contains(t, strings.Join(out.Warnings, " "), ".tivset/stage/"+out.Job+"-gone in the account could not be taken")
	known, err := w.Book.Has(ctx, done.Site.Address)
	require.NoError(t, err)
	assert.False(t, known)

	w.Trip.Keeps("")
	w.Trip.Dies("rename web/lockside/journal", 1)
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	w.Trip.Arm(0, 0)
	require.Error(t, err)
	id := fault.Of(err).Job
	w.Trip.Keeps(".tivset/stage/")
	for range 2 {
		_, err = w.Desk.Undo(ctx, id)
		says(t, err, "undo", id, "--give-up")
	}
	gave, err := w.Desk.GiveUp(ctx, id)
	require.NoError(t, err)
	assert.Equal(t, []string{".tivset/stage/" + id}, gave.Left)
	_, err = w.Desk.Undo(ctx, id)
	require.ErrorContains(t, err, "the job has ended already")
	w.Trip.Keeps("")
	_, err = w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err, "%v", fault.Of(err))
}
