package step_test

import (
	"context"
	"encoding/json"
	"io"
	"maps"
	"os"
	"path"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/app/kit"
	"tivset/internal/hosting"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/files"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/plan"
	"tivset/internal/records/backup"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site"
	"tivset/internal/step"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/remove"
)

var ctx = context.Background()

const jobID = "20261125-080000-abcd"

// ground is an account with one site in it, and another that is planned.
type ground struct {
	t       *testing.T
	w       *sitetest.World
	in      *hosting.Account
	record  ledger.Site
	site    *site.Site
	planned *plan.Plan
	crontab string // the file of a stand-in for crontab
}

func newGround(t *testing.T) *ground {
	t.Helper()
	g := &ground{t: t, w: sitetest.Demo(t), crontab: filepath.Join(t.TempDir(), "crontab")}
	g.w.Hosting.Settle = 0
	program := filepath.Join(t.TempDir(), "crontab.sh")
	require.NoError(t, os.WriteFile(program, []byte("#!/bin/sh\ncase $1 in\n-l) [ -e "+g.crontab+" ] && cat "+g.crontab+
		" || { echo 'no crontab for x' >&2; exit 1; };;\n-r) rm "+g.crontab+";;\n*) cat >"+g.crontab+";;\nesac\n"), 0o755))
	done, err := g.w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	g.w.EditAccount(func(a *account.Account) { a.Runtime.Crontab, a.Runtime.PHP = program, "/bin/true" })
	g.record = done.Site
	g.site, err = g.w.Book.From(done.Site)
	require.NoError(t, err)
	g.planned, err = g.w.Planner.Plan(ctx, sitetest.Request("inkreach", "chandlery.localhost/news"))
	require.NoError(t, err)
	g.in, err = g.w.Hosting.Open(ctx, g.site.In)
	require.NoError(t, err)
	t.Cleanup(func() { _ = g.in.Close() })
	g.write(".tivset/backups/of another/x") // the store is there, as the claim before each step has made it
	return g
}

// tools are those of a job about a site; nil for those of a recovery.
func (g *ground) tools(s *site.Site) *step.Tools {
	return &step.Tools{In: g.in, Site: s, Book: g.w.Book, Hosting: g.w.Hosting, Now: time.Now, Job: jobID, Who: "a test",
		Count: func(int64, int64, string) {}, Result: &step.Result{}}
}

// all is everything that a step can change.
func (g *ground) all() string {
	g.t.Helper()
	names, err := g.w.Book.Vault.Names("")
	require.NoError(g.t, err)
	var values []string
	for _, n := range names {
		v, err := g.w.Book.Vault.Get(n)
		require.NoError(g.t, err)
		values = append(values, "vault "+n+" "+v.Reveal())
	}
	sites, err := g.w.Book.Ledger.Sites(ctx)
	require.NoError(g.t, err)
	record, err := json.Marshal(sites)
	require.NoError(g.t, err)
	timers, _ := os.ReadFile(g.crontab)
	kept, _ := filepath.Glob(filepath.Join(g.w.Home.State, "kept", "*"))
	replaced := " /" + g.in.Store().Aside(jobID+"-replaced") // what was put over is kept
	snapshot := slices.DeleteFunc(strings.Split(g.w.Snapshot(), "\n"), func(line string) bool {
		return strings.Contains(line, replaced) || strings.HasSuffix(line, " /"+g.in.Store().Asides())
	})
	return strings.Join(snapshot, "\n") + "\n" + strings.Join(
		values,
		"\n",
	) + "\n" + string(record) + "\n" + g.w.Dump(
		g.record,
	) + "\n" +
		string(timers) + "\n" + strings.Join(
		kept,
		"\n",
	)
}

// write makes a file of the account.
func (g *ground) write(name string) {
	g.t.Helper()
	full := filepath.Join(g.w.Root, name)
	require.NoError(g.t, os.MkdirAll(filepath.Dir(full), 0o755))
	require.NoError(g.t, os.WriteFile(full, []byte(name), 0o644))
}

// guard makes one that knows the site's pages.
func (g *ground) guard() *step.Guard {
	g.t.Helper()
	guard, err := step.GuardOf(g.tools(g.site))
	require.NoError(g.t, err)
	require.NoError(g.t, guard.Look(g.record.Folder).Do(ctx))
	return guard
}

// sample is one step of a kind, made anew for every try.
type sample struct {
	make  func(g *ground) job.Step
	after func(g *ground) // what others do once it is done
	fails bool            // it cannot be done here: only that it is undone is seen
	stays bool            // what it does goes with another step's undo
}

var samples = map[string]sample{
	"claim": {make: func(g *ground) job.Step {
		return step.ClaimOf(g.tools(&g.planned.Site), "chandlery.localhost/news", nil)
	}},
	"keep-secrets": {make: func(g *ground) job.Step {
		return &step.KeepSecrets{Tools: g.tools(&g.planned.Site), Prefix: "sites/a/"}
	}},
	"make-database": {make: func(g *ground) job.Step {
		return &step.MakeDatabase{Tools: g.tools(&g.planned.Site), Server: "main", Name: g.planned.Data.Name}
	}},
	"make-user": {make: func(g *ground) job.Step {
		d := g.planned.Data
		return &step.MakeUser{Tools: g.tools(&g.planned.Site), Server: d.Server, Name: d.User, Clients: d.Clients,
			Database: d.Name}
	}, fails: true}, // its database is not there
	"prove-domain": {make: func(g *ground) job.Step { return step.Prove(g.tools(g.site)) }},
	"put-helper-page": {make: func(g *ground) job.Step {
		at, err := g.in.HelperPageAt(g.site.At.Domain)
		require.NoError(g.t, err)
		return &step.PutHelperPage{Tools: g.tools(g.site), Place: at,
			Fit: func(helperpage.Found) ([]string, error) { return nil, nil }}
	}}, // the stand-in runs no PHP: it goes again at once
	"take-helper-page": {make: func(g *ground) job.Step {
		at, err := g.in.HelperPageAt(g.site.At.Domain)
		require.NoError(g.t, err)
		return &step.TakeHelperPage{Tools: g.tools(g.site), Place: at}
	}},
	"use-database": {make: func(g *ground) job.Step {
		d := *g.site.Data
		d.Tables = "two_"
		other := *g.site
		other.Data = &d
		return &step.UseDatabase{Tools: g.tools(&other), Server: d.Server, Engine: d.Engine, Name: d.Name, User: d.User,
			Tables: d.Tables, Secret: site.VaultName(g.record.Address, site.DataPassword)}
	}, after: func(g *ground) { g.w.Query(g.record, "CREATE TABLE two_entries (id INT)") }},
	"make-folder": {make: func(g *ground) job.Step {
		return &step.MakeFolder{Tools: g.tools(g.site), Folder: "data/suite/deep"}
	},
		after: func(g *ground) { g.write("data/suite/deep/upload.txt") }},
	"await-settings": {make: func(g *ground) job.Step {
		other := *g.site
		k := *g.site.Kit.Kit
		k.PHPSettings = map[string]string{"memory_limit": "256M"}
		other.Kit.Kit = &k
		awaited, err := step.Awaited(g.tools(&other))
		require.NoError(g.t, err)
		return awaited
	}}, // the stand-in runs no PHP: the owner is told, and nothing stays
	"set-modes": {make: func(g *ground) job.Step {
		g.write("web/lockside/journal/one.txt")
		g.write("web/lockside/journal/two.txt")
		return &step.SetModes{Tools: g.tools(g.site), Modes: []site.InsecureMode{
			{Name: "web/lockside/journal/one.txt", Mode: 0o644, Want: 0o600},
			{Name: "web/lockside/journal/two.txt", Mode: 0o644, Want: 0o640}}}
	}},
	"set-aside": {make: func(g *ground) job.Step {
		g.write("web/chandlery/old/a.html")
		g.write("web/chandlery/b.html")
		return &step.SetAside{Tools: g.tools(g.site), From: "web/chandlery", To: g.in.Store().Aside(jobID),
			Entries: []string{"old", "b.html"}}
	}},
	"unpack": {make: func(g *ground) job.Step {
		t := g.tools(&g.planned.Site)
		stage, err := step.StageFor(t, false)
		require.NoError(g.t, err)
		return step.UnpackInto(t, stage, step.Archived{File: g.planned.Archive, Files: g.planned.Survey.Files,
			Configs: g.planned.Configs})
	}},
	"set-up": {make: func(g *ground) job.Step {
		run, err := g.site.Runner(g.in, g.in.Store().Stage(jobID), g.site.Place.URL, time.Now())
		require.NoError(g.t, err)
		return &step.SetUp{Tools: g.tools(g.site), Label: "x", Step: kit.Step{Remove: []string{"install"}}, Run: run}
	}},
	"put-in-place": {make: func(g *ground) job.Step {
		g.write(".tivset/stage/x/index.page")
		g.write(".tivset/stage/x/parts/a.page")
		return &step.PutInPlace{
			Tools:  g.tools(&g.planned.Site),
			Stage:  ".tivset/stage/x",
			Target: "web/chandlery/shop/arrived",
		}
	}, stays: true}, // what was staged goes with the stage
	"check": {make: func(g *ground) job.Step { return &step.CheckSite{Tools: g.tools(g.site)} }},
	"record": {make: func(g *ground) job.Step {
		g.write("web/chandlery/news/index.page")
		return &step.RecordSite{Tools: g.tools(&g.planned.Site), Address: g.planned.Address()}
	}},
	"back-up": {make: func(g *ground) job.Step { return g.backUp(&step.BackedUp{}) }},
	"save-site": {make: func(g *ground) job.Step {
		return step.Saved(g.tools(g.site), g.record, func(x *ledger.Site) { x.Title = "Another" })
	}},
	"keep-data": {make: func(g *ground) job.Step {
		return step.KeptData(g.tools(g.site), step.DataOf(g.site, g.record.Address))
	},
		after: func(g *ground) { g.w.Query(g.record, "DELETE FROM {tables}entries") }},
	"keep-files": {make: func(g *ground) job.Step {
		at := "data/suite/written"
		g.write(at + "/a.txt")
		g.write(at + "/deep/b.txt")
		ahead, last := step.KeptFiles(g.tools(g.site), []step.Written{{Open: at, Shut: at}})
		require.NoError(g.t, ahead.Do(ctx))
		require.NoError(g.t, os.Chtimes(filepath.Join(g.w.Root, at, "a.txt"), time.Now(), time.Now()))
		return last
	}, after: func(g *ground) {
		at := filepath.Join(g.w.Root, "data/suite/written")
		require.NoError(g.t, os.WriteFile(filepath.Join(at, "a.txt"), []byte("another"), 0o644))
		require.NoError(g.t, os.RemoveAll(filepath.Join(at, "deep")))
		g.write("data/suite/written/came/c.txt")
	}},
	"load-data": {make: func(g *ground) job.Step {
		return &step.LoadData{Tools: g.tools(g.site), Label: "Load", Data: step.DataOf(g.site, g.record.Address),
			Script: func(context.Context) (io.ReadCloser, error) {
				return io.NopCloser(strings.NewReader(g.w.Dump(g.record))), nil
			}}
	}, stays: true},
	"unpack-backup": {make: func(g *ground) job.Step {
		made := &step.BackedUp{}
		b := g.backUp(made)
		b.Kept, b.Named = step.Kept{File: filepath.Join(g.t.TempDir(), "b"), Depot: step.Here}, nil
		require.NoError(g.t, b.Do(ctx))
		from, err := backup.Open(ctx, func() (io.ReadCloser, error) { return os.Open(b.File) }, nil)
		require.NoError(g.t, err)
		return &step.UnpackBackup{Tools: g.tools(g.site), Stage: g.in.Store().Stage(jobID), From: func() *backup.Backup {
			return from
		}}
	}},
	"close": {make: func(g *ground) job.Step {
		// A page of the owner's that says what the notice says is no notice.
		require.NoError(g.t, os.WriteFile(filepath.Join(g.w.Root, g.record.Folder, "about.page"),
			[]byte("Closed for a few seconds"), 0o644))
		return step.CloseOf(g.tools(g.site), g.site, g.record)
	}},
	"swap": {make: func(g *ground) job.Step {
		g.write("web/chandlery/one.html")
		g.write("web/chandlery/two/x.html")
		return &step.Swap{Tools: g.tools(g.site), Label: "Swap", List: func(context.Context) ([]files.Move, error) {
			return []files.Move{{From: "web/chandlery/one.html", To: ".tivset/aside/x/one.html"},
				{From: "web/chandlery/two", To: "web/chandlery/one.html"}}, nil
		}}
	}},
	"put-index-pages": {make: func(g *ground) job.Step {
		return &step.PutIndexPages{Tools: g.tools(g.site), Folders: []string{g.record.Folder + "/admin"}}
	}},
	"cover-pages": {make: func(g *ground) job.Step { return g.guard().Cover(step.In(g.record.Folder)) }},
	"uncover-pages": {make: func(g *ground) job.Step {
		guard := g.guard()
		cover := guard.Cover(step.In(g.record.Folder))
		require.NoError(g.t, cover.Prepare(ctx))
		require.NoError(g.t, cover.Undo(ctx)) // what the try before has left
		require.NoError(g.t, files.RemoveAll(ctx, g.in.Files, path.Dir(cover.Clean)))
		require.NoError(g.t, cover.Do(ctx))
		return guard.Uncover()
	}},
	"prepare": {make: func(*ground) job.Step {
		return &step.FuncStep{Label: "x", Work: func(context.Context) error { return nil }}
	}},
	"unclaim": {make: func(g *ground) job.Step {
		return &step.Unclaim{Tools: g.tools(g.site), Marker: g.in.Store().Mark("none")}
	}},
	"set-password": {make: func(g *ground) job.Step { return &step.SetPassword{Tools: g.tools(g.site)} }, stays: true},
	"swap-secrets": {make: func(g *ground) job.Step {
		return step.SecretsOf(g.tools(g.site.With(map[string]secret.Text{site.AdminPassword: secret.Of("another"),
			"secret.new": secret.Of("n")})))
	}},
	"set-timers": {make: func(g *ground) job.Step {
		g.site.In.Runtime.Crontab, g.site.In.Runtime.PHP = g.in.Runtime.Crontab, "/usr/bin/php"
		other := *g.site
		k := *g.site.Kit.Kit
		k.Timers = []kit.Timer{{Every: "5m", Get: "cron?key=1"}, {Every: "2h", Command: []string{"php", "x.php"}}}
		other.Kit.Kit = &k
		s, err := step.TimersOf(g.tools(&other))
		require.NoError(g.t, err)
		return s
	}},
}

func (g *ground) backUp(made *step.BackedUp) *step.BackUp {
	b, err := step.BackUpOf(g.tools(g.site), g.record, step.Asked, "", nil, made)
	require.NoError(g.t, err)
	return b
}

// prepared prepares a step as a job does, and gives what its journal then says.
func prepared(t *testing.T, s job.Step) (begun []byte) {
	t.Helper()
	if p, ok := s.(job.Preparer); ok {
		require.NoError(t, p.Prepare(ctx))
	}
	begun, err := json.Marshal(s)
	require.NoError(t, err)
	return begun
}

// again makes a step of its journal line, with what a recovery has.
func (g *ground) again(kind string, fields []byte) any {
	g.t.Helper()
	made, err := g.tools(nil).Decode()(kind, fields)
	require.NoError(g.t, err)
	text, err := json.Marshal(made)
	require.NoError(g.t, err)
	require.JSONEq(g.t, string(fields), string(text), "nothing is lost on the way through the journal")
	return made
}

// undone undoes a step by its journal line alone, and then once more.
func (g *ground) undone(kind string, fields []byte) {
	g.t.Helper()
	s := g.again(kind, fields).(job.Step)
	require.NoError(g.t, s.Undo(ctx))
	require.NoError(g.t, g.again(kind, fields).(job.Step).Undo(ctx), "twice is once")
}

// Every kind of step comes back from its journal line, and is undone by it
// alone: when it was done, twice, and when it was cut off at any of its calls.
func TestSteps(t *testing.T) {
	g := newGround(t) // one for all: each step leaves it as it was
	for _, kind := range slices.Sorted(maps.Keys(samples)) {
		s := samples[kind]
		t.Run(kind, func(t *testing.T) {
			g.t = t
			one := s.make(g)
			assert.Equal(t, kind, one.Kind())
			assert.NotEmpty(t, one.Title())
			before := g.all()
			fields := prepared(t, one)
			g.w.Trip.Arm(0, 0)
			err := one.Do(ctx)
			calls := g.w.Trip.Calls()
			require.Equal(t, s.fails, err != nil, "%v", err)
			if s.after != nil {
				s.after(g)
			}
			g.undone(kind, fields)
			if !s.stays {
				sitetest.Same(t, before, g.all())
			}
			if s.stays || s.fails || testing.Short() {
				return
			}
			for n := 1; n <= calls; n += servers.Sweep(1 + calls/25) {
				one := s.make(g)
				before := g.all()
				fields := prepared(t, one)
				g.w.Trip.Arm(n, n)
				_ = one.Do(ctx)
				failed := g.w.Trip.Failed
				g.w.Trip.Arm(0, 0)
				g.undone(kind, fields)
				sitetest.Same(t, before, g.all(), "cut at call %d, %s", n, failed)
			}
		})
	}
}

// finishers are what finishes jobs, made anew for every try.
var finishers = map[string]func(g *ground) job.PostCommit{
	"tidy": func(g *ground) job.PostCommit {
		g.write(".tivset/stage/" + jobID + "/a/b.txt")
		require.NoError(g.t, step.ClaimOf(g.tools(&g.planned.Site), "chandlery.localhost/news", nil).Do(ctx))
		return step.TidyUp(g.tools(&g.planned.Site), "chandlery.localhost/news", "")
	},
	"drop-files": func(g *ground) job.PostCommit {
		g.write(".tivset/aside/" + jobID + "/old/b.txt")
		return step.DropReplaced(g.tools(g.site), "Drop")
	},
	"drop-here": func(g *ground) job.PostCommit {
		name := filepath.Join(g.t.TempDir(), "x")
		require.NoError(g.t, os.WriteFile(name, nil, 0o600))
		return &step.DropHere{Name: name}
	},
	"remove-old": func(g *ground) job.PostCommit {
		p, err := remove.Look(ctx, g.w.Desk, remove.Request{Site: g.record.Address})
		require.NoError(g.t, err)
		g.t.Cleanup(func() { _ = p.Close() })
		return p.End(g.tools(g.site))
	},
}

// Every kind of finisher is carried out by its journal line alone, once more
// after it was done, and to the same end after it was cut off at any of its
// calls. None holds a function.
func TestFinishers(t *testing.T) {
	for kind, make := range finishers {
		t.Run(kind, func(t *testing.T) {
			g := newGround(t)
			one := make(g)
			assert.Equal(t, kind, one.Kind())
			assert.NotEmpty(t, one.Title())
			noFunctions(t, reflect.TypeOf(one).Elem())
			fields, err := json.Marshal(one)
			require.NoError(t, err)
			g.w.Trip.Arm(0, 0)
			finish := func() error { return g.again(kind, fields).(job.PostCommit).Finish(ctx) }
			require.NoError(t, finish())
			calls := g.w.Trip.Calls()
			whole := g.left()
			require.NoError(t, finish(), "twice is once")
			assert.Equal(t, whole, g.left())
			for n := 1; n <= calls && !testing.Short(); n += servers.Sweep(1 + calls/8) {
				g := newGround(t)
				one := make(g)
				fields, err := json.Marshal(one)
				require.NoError(t, err)
				g.w.Trip.Arm(n, n)
				_ = one.Finish(ctx)
				g.w.Trip.Arm(0, 0)
				require.NoError(t, g.again(kind, fields).(job.PostCommit).Finish(ctx), "cut at call %d", n)
				assert.Equal(t, whole, g.left(), "cut at call %d", n)
			}
		})
	}
}

// left says which files there are, and which sites are known.
func (g *ground) left() string {
	g.t.Helper()
	var names []string
	for _, line := range strings.Split(g.w.Snapshot(), "\n") {
		if words := strings.Fields(line); len(words) > 1 && strings.HasPrefix(words[0], "-") {
			names = append(names, words[1])
		}
	}
	sites, err := g.w.Book.Ledger.Addresses(ctx)
	require.NoError(g.t, err)
	return strings.Join(names, "\n") + "\n" + strings.ReplaceAll(strings.Join(sites, "\n"), g.record.Address, "the site")
}

func noFunctions(t *testing.T, of reflect.Type) {
	t.Helper()
	for i := range of.NumField() {
		f := of.Field(i)
		if f.Name == "Tools" {
			continue
		}
		assert.NotEqual(t, reflect.Func, f.Type.Kind(), "%s.%s", of.Name(), f.Name)
		assert.True(t, f.IsExported(), "%s.%s is not in the journal", of.Name(), f.Name)
	}
}

// The suites leave out no kind that a journal can name.
func TestEveryKindIsTried(t *testing.T) {
	var tried []string
	for kind := range samples {
		tried = append(tried, kind)
	}
	for kind := range finishers {
		tried = append(tried, kind)
	}
	kinds := step.Kinds()
	slices.Sort(kinds)
	slices.Sort(tried)
	assert.Equal(t, kinds, tried)
}
