package work_test

import (
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/archive"
	"tivset/internal/demo"
	"tivset/internal/fault"
	format "tivset/internal/records/backup"
	"tivset/internal/records/ledger"
	"tivset/internal/testing/chaos"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
	"tivset/internal/work/renew"
	"tivset/internal/work/repair"
	"tivset/internal/work/restore"
	"tivset/internal/work/update"
)

// moved is something that is done to a site that people are using.
type moved struct {
	name string
	do   func(w *sitetest.World, x ledger.Site) (backup string, err error)
	at   string // where the site is afterwards, where that is another place
	fail string // what the failure says
}

func updateTo(release string) func(*sitetest.World, ledger.Site) (string, error) {
	return func(w *sitetest.World, x ledger.Site) (string, error) {
		_, err := update.To(ctx, w.Desk, update.Request{Site: x.Address, Release: release})
		return "", err
	}
}

var moving = []moved{
	{name: "update", do: updateTo("2.0.0")},
	{name: "update whose migration fails", do: updateTo("3.0.0"), fail: "nowhere"},
	{name: "update that the check finds broken", do: updateTo("2.5.0"), fail: "check of the"},
	{name: "new password", do: func(w *sitetest.World, x ledger.Site) (string, error) {
		_, err := renew.Renew(ctx, w.Desk, x.Address)
		return "", err
	}},
	{name: "repair", do: func(w *sitetest.World, x ledger.Site) (string, error) {
		if err := os.WriteFile(filepath.Join(w.Root, x.Folder, "lib/release.php"), []byte("<?php const RELEASE = 'x';"),
			0o644); err != nil {
			return "", err
		}
		_, err := repair.Repair(ctx, w.Desk, x.Address)
		return "", err
	}},
	// What was written before it closed the site is in the backup that it made.
	{name: "restore", do: func(w *sitetest.World, x ledger.Site) (string, error) {
		done, err := restore.Restore(ctx, w.Desk, restore.Request{Site: x.Address})
		if err != nil {
			return "", err
		}
		return done.Backup.File, nil
	}},
	{name: "copy", do: func(w *sitetest.World, x ledger.Site) (string, error) {
		return "", sitetest.CopyOf(w, place.Request{Site: x.Address, At: "chandlery.localhost/try"})
	}},
	{name: "move", at: "chandlery.localhost/talk", do: func(w *sitetest.World, x ledger.Site) (string, error) {
		return "", sitetest.CopyOf(w, place.Request{Site: x.Address, At: "chandlery.localhost/talk", Move: true})
	}},
}

// People write into a site, and a stranger tries to take it, while things are
// done to it. All that the site said it has kept is there afterwards, in the site
// or in a backup that was named; and nobody else gets in.
func TestWhileTheWorldMoves(t *testing.T) {
	for server, serve := range map[string]func(servers.Stage, []servers.Site, ...string) string{
		"nginx": servers.PHPWeb, "Apache": servers.Apache,
	} {
		for _, reach := range chaos.Reaches() {
			if server == "Apache" && reach != "local" {
				continue // it is reached as the other is
			}
			t.Run(server+" over "+reach, func(t *testing.T) {
				t.Parallel()
				pace := 50 * time.Millisecond
				if strings.HasPrefix(reach, "FTP") { // every file takes several round trips
					pace = 250 * time.Millisecond
				}
				g := chaos.NewGround(t, serve)
				w := g.World(t, reach)
				broken := g.Visit("http://lockside.localhost/talk/", pace)
				before := w.Snapshot()
				_, err := w.Install(chaos.Request("lockside.localhost/talk", "2.5.0"))
				require.ErrorContains(t, err, "check of the")
				taken, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
				require.NoError(t, err, "%v", fault.Of(err))
				_, _, err = w.Desk.TakeBack(ctx, taken.Job)
				require.NoError(t, err)
				broken.Leave()
				noStranger(t, broken, "installs that are taken back")
				sitetest.Same(t, before, w.Snapshot())
				install := g.Visit("http://lockside.localhost/talk/", pace)
				done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
				require.NoError(t, err, "%v", fault.Of(err))
				install.Leave()
				noStranger(t, install, "install")
				x := done.Site
				_, err = backup.Make(ctx, w.Desk, backup.Request{Site: x.Address})
				require.NoError(t, err)
				for _, m := range moving {
					x = whileVisited(t, g, w, x, m, pace)
				}
				removedWhileVisited(t, g, w, x, pace)
			})
		}
	}
}

// A site at a document root is closed by its own files alone: what else lies there
// goes on answering, the owner's pages and the sites in folders.
func TestSitesInsideStayOpen(t *testing.T) {
	for server, serve := range map[string]func(servers.Stage, []servers.Site, ...string) string{
		"nginx": servers.PHPWeb, "Apache": servers.Apache,
	} {
		t.Run(server, func(t *testing.T) {
			t.Parallel()
			g := chaos.NewGround(t, serve)
			w := g.World(t, "local")
			outer, err := w.Install(chaos.Request("lockside.localhost", "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))
			inner, err := w.Install(chaos.Request("lockside.localhost/inner", "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))
			pages := filepath.Join(w.Root, "web/lockside/mine")
			require.NoError(t, os.Mkdir(pages, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(pages, "index.html"), []byte("mine"), 0o644))
			mine := g.Visit("http://lockside.localhost/mine/", time.Hour)
			inside := g.Visit("http://lockside.localhost/inner/", 50*time.Millisecond)
			whole := g.Visit("http://lockside.localhost/", 50*time.Millisecond)
			_, err = update.To(ctx, w.Desk, update.Request{Site: outer.Site.Address, Release: "2.0.0"})
			require.NoError(t, err, "%v", fault.Of(err))
			for _, v := range []*chaos.Visitors{mine, inside, whole} {
				v.Leave()
			}
			closed, statuses := whole.Closed()
			assert.Positive(t, closed)
			assert.Positive(t, statuses[503])
			for _, v := range []*chaos.Visitors{mine, inside} {
				_, statuses := v.Closed()
				assert.Len(t, statuses, 1, "%v", statuses)
				assert.Positive(t, statuses[200])
			}
			noStranger(t, whole, "outer")
			noStranger(t, inside, "inner")
			assert.Len(t, inside.Kept(), inside.Tried())
			assert.NotEqual(t, outer.Site.Address, inner.Site.Address)
		})
	}
}

// PHP may keep code for long, and a host may forbid to empty its cache. What goes
// on answering then is not taken for closed.
func TestCodeCaches(t *testing.T) {
	const forbidden = "opcache.restrict_api = /nowhere"
	for name, settings := range map[string][]string{
		"kept until it is emptied":     {"opcache.validate_timestamps = 0"},
		"looks by itself":              {"opcache.validate_timestamps = 1", "opcache.revalidate_freq = 2", forbidden},
		"neither looks nor is emptied": {"opcache.validate_timestamps = 0", forbidden},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g := chaos.NewGround(t, servers.PHPWeb, settings...)
			w := g.World(t, "local")
			done, err := w.Install(chaos.Request("lockside.localhost/talk", "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))
			before := demo.ButBackups(w.Snapshot())
			v := g.Visit("http://lockside.localhost/talk/", 50*time.Millisecond)
			require.Eventually(t, v.Begun, 10*time.Second, 20*time.Millisecond)
			time.Sleep(2500 * time.Millisecond) // PHP keeps no code that is new (opcache.file_update_protection)
			_, err = updateTo("2.0.0")(w, done.Site)
			v.Leave()
			noStranger(t, v, name)
			x, errFind := w.Book.Find(ctx, done.Site.Address)
			require.NoError(t, errFind)
			if name == "neither looks nor is emptied" {
				require.ErrorContains(t, err, "cannot be closed")
				assert.Equal(t, "1.0.0", x.Release)
				gone, come := demo.Difference(before, demo.ButBackups(w.Snapshot()))
				for _, line := range append(gone, come...) { // but what visitors wrote
					assert.Regexp(t, "/uploads|/cache|/log/|/log.txt", line)
				}
			} else {
				require.NoError(t, err, "%v", fault.Of(err))
				assert.Equal(t, "2.0.0", x.Release)
			}
			there := everything(t, w, x)
			for _, text := range v.Kept() {
				assert.Equal(t, 3, strings.Count(there, text+"\n"), text)
			}
		})
	}
}

func noStranger(t *testing.T, v *chaos.Visitors, what string) {
	t.Helper()
	assert.Empty(t, v.Taken(), "%s, %d questions", what, v.Asked())
	assert.Greater(t, v.Asked(), 20, what)
}

// whileVisited does something to a site that people use, and gives what it is
// afterwards.
func whileVisited(t *testing.T, g *chaos.Ground, w *sitetest.World, x ledger.Site, m moved,
	pace time.Duration) ledger.Site {
	t.Helper()
	v := g.Visit("http://"+strings.Replace(x.Address, ":"+port(g.Web), "", 1)+"/", pace)
	made, err := m.do(w, x)
	v.Leave()
	if m.fail == "" {
		require.NoError(t, err, "%s: %v", m.name, fault.Of(err))
	} else {
		require.ErrorContains(t, err, m.fail)
		assert.Equal(t, fault.Failed, fault.Of(err).Kind)
	}
	noStranger(t, v, m.name)
	closed, statuses := v.Closed()
	t.Logf("%s: closed for %d ms, answers %v; %d of %d entries kept", m.name, closed.Milliseconds(), statuses,
		len(v.Kept()), v.Tried())
	require.NotEmpty(t, v.Kept(), m.name)
	at := x.Address
	if m.at != "" {
		at = m.at
	}
	now, err2 := w.Book.Find(ctx, at)
	require.NoError(t, err2)
	there := everything(t, w, now)
	if made != "" {
		there += inBackup(t, filepath.Join(w.Root, made), v.Kept())
	}
	if m.name != "restore" && m.name != "copy" {
		var behind []string
		for _, text := range v.Kept() {
			if strings.Count(there, text+"\n") < 3 {
				behind = append(behind, text)
			}
		}
		assert.Empty(t, behind, "%s: %d of %d entries are not in the site", m.name, len(behind), len(v.Kept()))
	}
	job := jobOf(t, w, err)
	for _, name := range job.Kept {
		there += inBackup(t, name, v.Kept())
	}
	for _, folder := range job.Replaced {
		there += files(t, filepath.Join(w.Root, folder, now.Folder), filepath.Join(w.Root, folder, now.DataFolder))
	}
	text, err3 := os.ReadFile(filepath.Join(w.Root, now.Folder, "uploads/readme.txt"))
	require.NoError(t, err3)
	assert.Equal(t, "uploads go here\n", string(text), "%s: no release spoils what is not its own", m.name)
	var lost []string
	for _, text := range v.Kept() {
		if strings.Count(there, text+"\n") < 3 {
			lost = append(lost, text)
		}
	}
	assert.Empty(t, lost, "%s: %d of %d entries are lost", m.name, len(lost), len(v.Kept()))
	return now
}

// removedWhileVisited takes the site out: what it said it has kept is in the last
// backup.
func removedWhileVisited(t *testing.T, g *chaos.Ground, w *sitetest.World, x ledger.Site, pace time.Duration) {
	t.Helper()
	v := g.Visit("http://"+strings.Replace(x.Address, ":"+port(g.Web), "", 1)+"/", pace)
	done := w.Remove(remove.Request{Site: x.Address, WithAdded: true})
	v.Leave()
	noStranger(t, v, "remove")
	require.NotEmpty(t, v.Kept())
	there := inBackup(t, filepath.Join(w.Root, done.Backup.File), v.Kept())
	for _, text := range v.Kept() {
		assert.Equal(t, 3, strings.Count(there, text+"\n"), text)
	}
}

func port(address string) string { _, p, _ := strings.Cut(address, ":"); return p }

// everything lists what a site has kept: each entry is in its table, in a file in
// its folder, and in one outside of the web.
func everything(t *testing.T, w *sitetest.World, x ledger.Site) string {
	t.Helper()
	out := strings.ReplaceAll(w.Value(x, "SELECT COALESCE(GROUP_CONCAT(body SEPARATOR ';'), '') FROM {tables}entries"),
		";", "\n") + "\n"
	return out + files(t, filepath.Join(w.Root, x.Folder), filepath.Join(w.Root, x.DataFolder))
}

// files lists what is kept in files, in a site's folder and in one outside of the
// web.
func files(t *testing.T, folder, outside string) string {
	t.Helper()
	out := ""
	uploads, err := filepath.Glob(filepath.Join(folder, "uploads/*.txt"))
	require.NoError(t, err)
	for _, name := range uploads {
		out += strings.TrimSuffix(filepath.Base(name), ".txt") + "\n"
	}
	log, err := os.ReadFile(filepath.Join(outside, "log.txt"))
	if !os.IsNotExist(err) {
		require.NoError(t, err)
	}
	return out + string(log)
}

// inBackup lists what of some entries is in a backup, as everything does.
func inBackup(t *testing.T, file string, entries []string) string {
	t.Helper()
	b, err := format.Open(ctx, func() (io.ReadCloser, error) { return os.Open(file) }, nil)
	require.NoError(t, err)
	script, err := io.ReadAll(b.Script(ctx))
	require.NoError(t, err)
	out := ""
	for _, text := range entries {
		if strings.Contains(string(script), "'"+text+"'") {
			out += text + "\n"
		}
	}
	for _, part := range []string{format.Files, format.Outside} {
		require.NoError(t, b.Part(part)(ctx, func(e archive.Entry, content io.Reader) error {
			if part == format.Files && path.Dir(e.Name) == "uploads" {
				out += strings.TrimSuffix(path.Base(e.Name), ".txt") + "\n"
			}
			if part == format.Outside && !e.Dir {
				log, err := io.ReadAll(content)
				out += string(log)
				return err
			}
			return nil
		}))
	}
	return out
}

// jobOf is the record of the job that a fault tells of.
func jobOf(t *testing.T, w *sitetest.World, err error) ledger.Job {
	t.Helper()
	jobs, errJobs := w.Book.Ledger.Jobs(ctx, ledger.JobFilter{})
	require.NoError(t, errJobs)
	for _, j := range jobs {
		if f := fault.Of(err); f != nil && j.ID == f.Job {
			return j
		}
	}
	return ledger.Job{}
}
