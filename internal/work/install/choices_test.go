package install_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/plan"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work"
	"tivset/internal/work/install"
)

// aside is a request for a place where something is, which is to be set aside.
func aside() plan.Request {
	r := sitetest.Request("inkreach", "quillmere.localhost")
	r.Answers["occupied"] = "set-aside"
	return r
}

// What is in the way is kept in the store while the site is there, and comes
// back, as it was, when the install is taken back.
func TestSetAsideAndTakenBack(t *testing.T) {
	w := sitetest.Demo(t)
	root := filepath.Join(w.Root, "web/quillmere")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "old/deep"), 0o750))
	require.NoError(t, os.WriteFile(filepath.Join(root, "old/deep/note.txt"), []byte("keep me"), 0o600))
	require.NoError(t, os.MkdirAll(filepath.Join(root, ".well-known"), 0o755))
	before := w.Snapshot()
	planned, err := w.Planner.Plan(ctx, aside())
	require.NoError(t, err)
	assert.Equal(t, "occupied", planned.Place.State)
	assert.ElementsMatch(t, []string{"web/quillmere/index.html", "web/quillmere/old"}, planned.Changes.SetAside)
	require.Len(t, planned.Warnings, 1)
	assert.Contains(t, planned.Warnings[0], "main site")
	done, err := install.Install(ctx, w.Desk, planned)
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(w.Root, ".tivset/aside", done.Job, "old/deep/note.txt"))
	assert.DirExists(t, filepath.Join(root, ".well-known"), "hosts need it where it is")
	assert.Equal(t, planned.Changes.SetAside, done.Site.SetAside)

	entry, left, err := w.Desk.TakeBack(ctx, done.Job)
	require.NoError(t, err)
	assert.Equal(t, ledger.Undone, entry.Outcome)
	assert.Empty(t, left)
	sitetest.Same(t, before, w.Snapshot())
	_, err = w.Book.Reveal(ctx, done.Site.Address)
	assert.Error(t, err, "neither site nor secrets are kept")
	_, _, err = w.Desk.TakeBack(ctx, done.Job)
	assert.Equal(t, fault.Usage, fault.Of(err).Kind)
}

// Whichever call fails, what was set aside is back where it was.
func TestSetAsideUndoneWhicheverCallFails(t *testing.T) {
	servers.Slow(t)
	t.Parallel()
	stride := servers.Sweep(7)
	w := sitetest.Demo(t)
	w.Hosting.Settle = 0
	before := w.Snapshot()
	failed := 0
	for n := 1; ; n += stride {
		w.Trip.Arm(0, 0)
		planned, err := w.Planner.Plan(ctx, aside())
		require.NoError(t, err)
		w.Trip.Arm(n, n)
		done, err := install.Install(ctx, w.Desk, planned)
		tripped := w.Trip.Failed
		w.Trip.Arm(0, 0)
		undone := sitetest.Undo(t, w)
		if err != nil && fault.Of(err).Kind == fault.Incomplete && len(undone) == 0 {
			found, err := w.Book.Find(ctx, "quillmere")
			require.NoError(t, err)
			done = &work.Done{Job: found.Job}
		} else if err != nil {
			failed++
			sitetest.Same(t, before, w.Snapshot(), "call %d, %s: %v", n, tripped, err)
			continue
		}
		_, _, err = w.Desk.TakeBack(ctx, done.Job)
		require.NoError(t, err)
		sitetest.Same(t, before, w.Snapshot(), "taken back after call %d", n)
		if tripped == "" {
			break // the install makes no further call
		}
	}
	assert.Greater(t, failed, 50/stride)
}

// Taking back is itself a job that can be cut off and ended later.
func TestTakingBackWhicheverCallFails(t *testing.T) {
	servers.Slow(t)
	t.Parallel()
	stride := servers.Sweep(5)
	w := sitetest.Demo(t)
	w.Desk.Patience = 0
	before := w.Snapshot()
	for n := 1; ; n += stride {
		planned, err := w.Planner.Plan(ctx, aside())
		require.NoError(t, err)
		done, err := install.Install(ctx, w.Desk, planned)
		require.NoError(t, err)
		w.Trip.Arm(n, 1<<30)
		_, _, err = w.Desk.TakeBack(ctx, done.Job)
		tripped := w.Trip.Failed
		w.Trip.Arm(0, 0)
		if err != nil {
			left, errLeft := w.Desk.Unfinished(ctx)
			require.NoError(t, errLeft)
			_, there, errThere := w.Desk.Installed(ctx, done.Job)
			require.NoError(t, errThere)
			switch {
			case len(left) > 0:
				_, err = w.Desk.Undo(ctx, done.Job)
				require.NoError(t, err, "call %d, %s", n, tripped)
			case there: // nothing was begun
				_, _, err = w.Desk.TakeBack(ctx, done.Job)
				require.NoError(t, err, "call %d, %s", n, tripped)
			default: // only the look at what is left failed
			}
		}
		sitetest.Same(t, before, w.Snapshot(), "call %d, %s", n, tripped)
		if tripped == "" {
			break
		}
	}
}

// Files that the owner put beside the app's are not taken away with it.
func TestTakenBackWithOthersFiles(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("slateroom", "slate-school.localhost/classes"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.Root, "web/slate-school/classes/mine.txt"), nil, 0o644))
	require.DirExists(t, filepath.Join(w.Root, done.Site.DataFolder))
	_, left, err := w.Desk.TakeBack(ctx, done.Job)
	require.NoError(t, err)
	assert.Equal(t, []string{"web/slate-school/classes/mine.txt"}, left)
	assert.NoDirExists(t, filepath.Join(w.Root, "data"))
}

// What belongs to somebody else is never set aside.
func TestNeverSetAside(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost"))
	require.NoError(t, err)
	w.EditAccount(func(a *account.Account) {
		inner := a.Domains[1]
		inner.Name, inner.Folder, inner.URL = "inner.localhost", "web/chandlery/inner",
			strings.Replace(inner.URL, "lockside", "inner", 1)
		twin := inner
		twin.Name, twin.Folder, twin.URL = "twin.localhost", "web/lockside", strings.Replace(twin.URL, "inner", "twin", 1)
		a.Domains = append(a.Domains, inner, twin)
	})
	require.NoError(t, os.MkdirAll(filepath.Join(w.Root, "web/chandlery/inner"), 0o755))
	for at, words := range map[string]string{
		"lockside.localhost":       "a site is at this address already",
		"twin.localhost":           "a site is at this address already", // the sitetest.Same folder under another name
		"lockside.localhost/admin": "a part of the site",
	} {
		r := sitetest.Request("willowbench", at)
		r.Answers["occupied"] = "set-aside"
		_, err := w.Planner.Plan(ctx, r)
		assert.ErrorContains(t, err, words, at)
		assert.Equal(t, fault.NeedsConfirmation, fault.Of(err).Kind)
	}
	r := sitetest.Request("willowbench", "chandlery.localhost")
	r.Answers["occupied"] = "set-aside"
	planned, err := w.Planner.Plan(ctx, r)
	require.NoError(t, err)
	assert.Equal(t, "beside", planned.Place.State, "another domain's document root stays")
	assert.Empty(t, planned.Changes.SetAside)
}

func TestTraps(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost"))
	require.NoError(t, err)
	w.EditAccount(func(a *account.Account) {
		www := a.Domains[2]
		www.Name, www.URL, www.Folder = "www.chandlery.localhost", strings.Replace(www.URL, "//", "//www.", 1), "web/www"
		same := a.Domains[3]
		same.Name, same.URL = "www.slate-school.localhost", strings.Replace(same.URL, "//", "//www.", 1)
		a.Domains = append(a.Domains, www, same)
	})
	for at, words := range map[string]string{
		"lockside.localhost/forum":      "inside the folder of",
		"chandlery.localhost/forum":     "two addresses with two folders",
		"slate-school.localhost/forum":  "www.slate-school.localhost shows the same folder",
		"quillmere.localhost/somewhere": "",
	} {
		look, err := w.Planner.LookAt(ctx, plan.Request{At: at})
		require.NoError(t, err)
		assert.Equal(t, words != "", len(look.Warnings) == 1, at)
		assert.Contains(t, strings.Join(look.Warnings, ""), words)
	}
}

// A document root that the domain does not lead to is found before anything is
// made, by a file that goes again.
func TestDomainThatLeadsElsewhere(t *testing.T) {
	w := sitetest.Demo(t)
	w.Hosting.Settle = 0
	require.NoError(t, os.MkdirAll(filepath.Join(w.Root, "web/elsewhere"), 0o755))
	w.EditAccount(func(a *account.Account) { a.Domains[1].Folder = "web/elsewhere" })
	before := w.Snapshot()
	_, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.ErrorContains(t, err, "the domain does not lead to this folder")
	assert.NotContains(t, err.Error(), "Create the database")
	sitetest.Same(t, before, w.Snapshot())
	w.EditAccount(func(a *account.Account) { a.Domains[1].Connect = "127.0.0.1:9" })
	_, err = w.Planner.Plan(ctx, sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.ErrorContains(t, err, "lockside.localhost does not answer")
}

// With a certificate that verifies a site is at https, else there is a warning.
func TestCertificates(t *testing.T) {
	w := sitetest.Demo(t)
	bare := func(scheme string) {
		w.EditAccount(func(a *account.Account) {
			a.Domains[1].Name, a.Domains[1].URL, a.Domains[1].Connect = "lockside.example", scheme+"://lockside.example", ""
		})
	}
	asked := ""
	certified := func(err error) {
		w.Hosting.Certified = func(_ context.Context, name, address string) (time.Time, error) {
			asked = name + " at " + address
			return time.Time{}, err
		}
	}
	planned := func(at string) (*plan.Plan, error) { return w.Planner.Plan(ctx, sitetest.Request("inkreach", at)) }

	bare("https")
	certified(errors.New("it has run out"))
	_, err := planned("lockside.example/journal")
	require.ErrorContains(t, err, "the certificate of lockside.example does not verify")
	assert.Equal(t, "lockside.example at lockside.example:443", asked)

	// The name does not resolve here, so that the look at the domain fails after
	// the choice of the scheme, and names the address that was chosen.
	bare("http")
	certified(nil)
	for at, scheme := range map[string]string{"lockside.example/journal": "https",
		"https://lockside.example/journal": "https", "http://lockside.example/journal": "http"} {
		_, err = planned(at)
		require.ErrorContains(t, err, "does not answer")
		assert.Equal(t, scheme+"://lockside.example", fault.Of(err).Where, at)
	}
	certified(errors.New("none"))
	_, err = planned("lockside.example/journal")
	assert.Equal(t, "http://lockside.example", fault.Of(err).Where)

	w.EditAccount(func(a *account.Account) { a.Domains[1].Connect = w.Demo.Standin.Web.Address() })
	_, err = planned("lockside.example/journal")
	require.NoError(t, err, "the stand-in answers for no such name, but it answers")
	p, err := planned("lockside.example/journal")
	require.NoError(t, err)
	assert.Contains(t, strings.Join(p.Warnings, " "), "no certificate in use")
}

// An install that was cut off is resumed with the secrets that were given.
func TestResumedWithItsSecrets(t *testing.T) {
	w := sitetest.Demo(t)
	w.Hosting.Settle, w.Desk.Patience = 0, 0
	r, _ := ready(t, w, "shared")
	towline := sitetest.Request("towline", r.At)
	for _, id := range []string{"data.from", "data.name", "data.user", "data.password"} {
		towline.Answers[id] = r.Answers[id]
	}
	towline.Answers["admin.password"] = "Kranich-Teekanne-74-Ufer"
	planned, err := w.Planner.Plan(ctx, towline)
	require.NoError(t, err)
	w.Trip.Arm(60, 1<<30)
	_, err = install.Install(ctx, w.Desk, planned)
	w.Trip.Arm(0, 0)
	require.Equal(t, fault.Incomplete, fault.Of(err).Kind)
	done, err := w.Desk.Resume(ctx, fault.Of(err).Job)
	require.NoError(t, err)
	creds, err := w.Book.Reveal(ctx, done.Site.Address)
	require.NoError(t, err)
	assert.Equal(t, "Kranich-Teekanne-74-Ufer", creds.Password.Reveal())
	assert.Equal(t, "Ufer-Kranich-31-Tee", creds.Data.Reveal())
	require.Len(t, creds.Others, 2)
	assert.Equal(t, sitetest.Key, creds.Others[0].Value.Reveal())
	assert.Equal(t, sitetest.MailPassword, creds.Others[1].Value.Reveal())
	text, err := os.ReadFile(filepath.Join(w.Root, "web/lockside/forum/config/towline.toml"))
	require.NoError(t, err)
	assert.Contains(t, string(text), sitetest.Key)
}

// The app reads its extras and its own questions' answers back.
func TestChoicesArrive(t *testing.T) {
	w := sitetest.Demo(t)
	for _, c := range []struct {
		app, at, page string
		shows, not    []string
	}{
		{"pennywharf", "chandlery.localhost", "", []string{"Windlass", "class=\"slate\"", "invoice"}, []string{"noindex"}},
		{"pennywharf", "chandlery.localhost/two", "about.page", []string{"Rope &#34;&amp; Paint&#34; #1; $5", "QM12345678",
			"https://chandlery.localhost/terms?a=b&amp;c=d"}, nil},
		{"slateroom", "slate-school.localhost", "", []string{"<p>Come in.</p>",
			"Sit &#34;down&#34;, \\ and &lt;/script&gt; wait.", "9 seats", "Put your name down", "also in de, nl",
			"desk@slate-school.localhost"}, nil},
		{"lampshelf", "quillmere.localhost/pictures", "", []string{"class=\"dawn\"", "noindex", "yours to download"},
			[]string{"Top gate"}},
		{"towline", "lockside.localhost", "", []string{"- one<br># two", "https://lockside.localhost/"}, nil},
	} {
		done, err := w.Install(sitetest.Request(c.app, c.at))
		require.NoError(t, err, c.app)
		text := w.Fetch(done.Site.URL + c.page)
		for _, words := range c.shows {
			assert.Contains(t, text, words, c.app)
		}
		for _, words := range c.not {
			assert.NotContains(t, text, words, c.app)
		}
	}
	assert.DirExists(t, filepath.Join(w.Root, "web/lockside/extensions/calendar"))
	assert.NoDirExists(t, filepath.Join(w.Root, "web/lockside/extensions/canned-replies"),
		"what was not chosen is not there")
	assert.NoDirExists(t, filepath.Join(w.Root, "web/chandlery/admin"), "the admin area has a name of its own")
}

// The extra that locks out repeated failed sign-ins does so, and only when it
// was chosen.
func TestLockoutLocksOut(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	for at, chosen := range map[string]string{"lockside.localhost/locked": "yes", "lockside.localhost/open": "no"} {
		r := sitetest.Request("towline", at)
		r.Answers["extra.lockout"] = chosen
		done, err := w.Install(r)
		require.NoError(t, err)
		creds, err := w.Book.Reveal(ctx, done.Site.Address)
		require.NoError(t, err)
		last := ""
		for n := range 7 {
			password := "wrong"
			if n == 6 {
				password = creds.Password.Reveal()
			}
			last = w.SignIn(done.Site.AdminURL+"sign-in.page", map[string]string{"name": done.Site.Admin.Name,
				"password": password})
		}
		assert.Equal(t, chosen == "yes", strings.Contains(last, "Too many failed sign-ins"), last)
		assert.Equal(t, chosen == "no", strings.Contains(last, "Signed in as"))
	}
}

// The timer's page needs the key that reveal shows; the review and the end do
// not show it.
func TestTimer(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("slateroom", "slate-school.localhost"))
	require.NoError(t, err)
	require.Len(t, done.Todo, 1)
	assert.Contains(t, done.Todo[0], "/timer.page?key=KEY every 5 minutes")
	creds, err := w.Book.Reveal(ctx, done.Site.Address)
	require.NoError(t, err)
	require.Len(t, creds.Others, 1)
	assert.Contains(t, w.Fetch(creds.Others[0].Value.Reveal()), "Done.")
	assert.NotContains(t, w.Fetch(done.Site.URL+"timer.page?key=KEY"), "Done.")
}

func TestMailIsAskedOnRequest(t *testing.T) {
	w := sitetest.Demo(t)
	asked := ""
	w.Planner.TakesMail = func(_ context.Context, domain string) error {
		asked = domain
		return errors.New("no such domain")
	}
	r := sitetest.Request("inkreach", "lockside.localhost/journal")
	_, err := w.Planner.Plan(ctx, r)
	require.NoError(t, err)
	assert.Empty(t, asked, "nobody is asked without request")
	r.Answers["admin.email-check"] = "yes"
	_, err = w.Planner.Plan(ctx, r)
	require.ErrorContains(t, err, "no mail can be sent to lockside.localhost")
	assert.Equal(t, "lockside.localhost", asked)
}

// The saved answers install the same elsewhere.
func TestSavedAnswersInstallTheSame(t *testing.T) {
	w := sitetest.Demo(t)
	r := sitetest.Request("pennywharf", "chandlery.localhost")
	planned, err := w.Planner.Plan(ctx, r)
	require.NoError(t, err)
	first, err := install.Install(ctx, w.Desk, planned)
	require.NoError(t, err)
	saved := planned.Saved()
	second, err := w.Install(plan.Request{App: saved.Install, At: "lockside.localhost/shop", Release: saved.Release,
		Answers: saved.Answers})
	require.NoError(t, err)
	assert.Equal(t, first.Site.Chosen, second.Site.Chosen)
	assert.Equal(t, first.Site.Title, second.Site.Title)
	assert.Equal(t, first.Site.Admin, second.Site.Admin)
	assert.Equal(t, first.Site.Care, second.Site.Care)
	assert.NotEqual(t, first.Site.Database.Name, second.Site.Database.Name)
	assert.NotEqual(t, first.Site.AdminURL[len(first.Site.URL):], second.Site.AdminURL[len(second.Site.URL):])
}
