package install_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/account"
	"tivset/internal/hosting/database"
	"tivset/internal/hosting/database/mariadb"
	"tivset/internal/plan"
	"tivset/internal/secret"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/install"
)

// ready makes a database and a user with rights on it, as a host would.
func ready(t *testing.T, w *sitetest.World, name string) (r plan.Request, login database.Login) {
	t.Helper()
	a, err := w.Home.Account("quillmere")
	require.NoError(t, err)
	password, err := w.Book.Vault.Get("quillmere/main")
	require.NoError(t, err)
	d := a.Databases[0]
	server, err := mariadb.Connect(ctx, database.Login{Server: d.Server, User: "root", Password: password})
	require.NoError(t, err)
	defer server.Close()
	u := database.User{Name: name, Clients: []string{"localhost", "127.0.0.1"}, Password: secret.Of("Ufer-Kranich-31-Tee"),
		Database: name}
	if w.Real != nil {
		t.Cleanup(func() { _ = server.DropDatabase(ctx, name) })
	}
	require.NoError(t, server.CreateDatabase(ctx, name))
	require.NoError(t, server.CreateUser(ctx, u))
	login = database.Login{Server: d.Server, User: name, Password: u.Password, Database: name}
	r = sitetest.Request("willowbench", "lockside.localhost/forum")
	r.Answers["data.from"], r.Answers["data.name"], r.Answers["data.user"], r.Answers["data.password"] = "existing", name,
		name, u.Password.Reveal()
	return r, login
}

// Several sites share a database that was there, by the prefix of their tables.
func TestExistingDatabase(t *testing.T) {
	sitetest.OnBoth(t, func(t *testing.T, w *sitetest.World) {
		r, login := ready(t, w, "shared")
		r.Answers["data.tables"] = "one_"
		data, err := mariadb.Open(ctx, login)
		require.NoError(t, err)
		defer data.Close()
		require.NoError(t, data.Exec(ctx, "CREATE TABLE mine (id INT NOT NULL PRIMARY KEY)", nil))
		planned, err := w.Planner.Plan(ctx, r)
		require.NoError(t, err)
		assert.Equal(t, 1, planned.Data.Others)
		assert.Empty(t, planned.Changes.Databases, "no database is made")
		assert.Empty(t, planned.Changes.Users)
		assert.NotContains(t, planned.Saved().Answers, "data.password")
		assert.Equal(t, "shared", planned.Saved().Answers["data.name"])
		first, err := install.Install(ctx, w.Desk, planned)
		require.NoError(t, err)
		assert.Equal(t, "existing", first.Site.Database.From)

		r.At = "lockside.localhost/second"
		_, err = w.Install(r)
		require.ErrorContains(t, err, "begin with one_ already")
		r.Answers["data.tables"], r.Answers["data.server"] = "two_", login.Server // the sitetest.Same server, by its address
		second, err := w.Install(r)
		require.NoError(t, err)
		tables, err := data.Tables(ctx)
		require.NoError(t, err)
		assert.Len(t, tables, 9)

		_, _, err = w.Desk.TakeBack(ctx, second.Job)
		require.NoError(t, err)
		_, _, err = w.Desk.TakeBack(ctx, first.Job)
		require.NoError(t, err)
		tables, err = data.Tables(ctx)
		require.NoError(t, err)
		assert.Equal(t, []string{"mine"}, tables, "only the sites' own tables went")
	})
}

func TestExistingDatabaseThatWillNotDo(t *testing.T) {
	sitetest.OnBoth(t, func(t *testing.T, w *sitetest.World) {
		r, _ := ready(t, w, "there")
		for _, c := range []struct{ id, value, words string }{
			{"data.password", "Not-The-Right-One-9", "refused the user or password"},
			{"data.name", "mysql", "mysql"},
			{"data.server", "127.0.0.1:9", "does not answer"},
			{"data.server", "nonesuch", "cannot be chosen"},
			{"data.tables", "1_", "does not have the right form"},
		} {
			changed := plan.Request{App: r.App, At: r.At, Answers: map[string]string{}}
			for id, v := range r.Answers {
				changed.Answers[id] = v
			}
			changed.Answers[c.id] = c.value
			_, err := w.Planner.Plan(ctx, changed)
			require.ErrorContains(t, err, c.words, c.id)
			assert.NotContains(t, err.Error(), changed.Answers["data.password"])
		}
	})
}

// Every call of an install into a database that was there fails once.
func TestExistingDatabaseUndone(t *testing.T) {
	servers.Slow(t)
	t.Parallel()
	w := sitetest.Demo(t)
	w.Hosting.Settle = 0
	r, login := ready(t, w, "shared")
	data, err := mariadb.Open(ctx, login)
	require.NoError(t, err)
	defer data.Close()
	require.NoError(t, data.Exec(ctx, "CREATE TABLE mine (id INT NOT NULL PRIMARY KEY)", nil))
	before := w.Snapshot()
	for n := 1; ; n++ {
		planned, err := w.Planner.Plan(ctx, r)
		require.NoError(t, err)
		w.Trip.Arm(n, n)
		_, err = install.Install(ctx, w.Desk, planned)
		tripped := w.Trip.Failed
		w.Trip.Arm(0, 0)
		if tripped == "" {
			require.NoError(t, err)
			return
		}
		undone := sitetest.Undo(t, w)
		tables, errTables := data.Tables(ctx)
		require.NoError(t, errTables)
		if err != nil && (fault.Of(err).Kind == fault.Failed || len(undone) > 0) {
			assert.Equal(t, []string{"mine"}, tables, tripped)
			sitetest.Same(t, before, w.Snapshot(), tripped)
			continue
		}
		found, err := w.Book.Find(ctx, "forum")
		require.NoError(t, err)
		_, _, err = w.Desk.TakeBack(ctx, found.Job)
		require.NoError(t, err)
	}
}

// Where databases are made by hand, the install says what to make, and then
// takes what was made.
func TestByHand(t *testing.T) {
	w := sitetest.Demo(t)
	r, _ := ready(t, w, "made")
	w.EditAccount(func(a *account.Account) { a.Databases[0].Admin, a.Databases[0].Make = nil, "by-hand" })
	plain := sitetest.Request("willowbench", r.At)
	_, err := w.Planner.Plan(ctx, plain)
	f := fault.Of(err)
	require.Equal(t, fault.NeedsConfirmation, f.Kind, "%v", err)
	said := strings.Join(f.Details, "\n")
	for _, words := range []string{"a database    quill_will", "a user        quill_will", "of your choice",
		"all of them on quill_will"} {
		assert.Contains(t, said, words)
	}
	r.Answers["data.from"] = "by-hand"
	r.Answers["data.password"] += "x"
	_, err = w.Planner.Plan(ctx, r)
	assert.Contains(t, strings.Join(fault.Of(err).Details, "\n"),
		"tried now: the database server refused the user or password")
	r.Answers["data.password"] = strings.TrimSuffix(r.Answers["data.password"], "x")
	found, err := w.Planner.TryData(ctx, r)
	require.NoError(t, err)
	assert.Equal(t, "made", found.Name)
	done, err := w.Install(r)
	require.NoError(t, err)
	assert.Equal(t, "by-hand", done.Site.Database.From)
}

// Names of a new database can be chosen, within the server's rules.
func TestNamesOfANewDatabase(t *testing.T) {
	w := sitetest.Demo(t)
	r := sitetest.Request("willowbench", "lockside.localhost/forum")
	for _, c := range []struct{ id, value, words string }{
		{"data.name", "forum", "begin with quill_"}, {"data.name", "quill_a-b", "letters, digits and _"},
		{"data.user", "quill_" + strings.Repeat("x", 30), "at most 32"}, {"data.tables", strings.Repeat("x", 25),
			"at most 20"},
		{"data.password", "Ufer-Kranich-31-Tee", "only asked when data.from is not new"},
	} {
		r.Answers[c.id] = c.value
		_, err := w.Planner.Plan(ctx, r)
		require.ErrorContains(t, err, "", c.value)
		f := fault.Of(err)
		assert.Contains(t, f.What+f.Remedy, c.words)
		delete(r.Answers, c.id)
	}
	r.Answers["data.name"], r.Answers["data.user"], r.Answers["data.tables"] = "quill_talk", "quill_talker", "talk_"
	done, err := w.Install(r)
	require.NoError(t, err)
	assert.Equal(t, "quill_talk quill_talker talk_", done.Site.Database.Name+" "+done.Site.Database.User+" "+
		done.Site.Database.Tables)
	r.At = "lockside.localhost/second"
	_, err = w.Planner.Plan(ctx, r)
	require.ErrorContains(t, err, "there is a database quill_talk already")
}
