// Package databasetest proves that a database server keeps the contract of
// package database. Every implementation, and the stand-in, passes it.
package databasetest

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/database"
	"tivset/internal/secret"
)

// Host is a server under test.
type Host struct {
	Admin   database.Login
	Connect func(context.Context, database.Login) (database.Server, error)
	Open    func(context.Context, database.Login) (database.Session, error)
}

// awkward is a password with everything that has ever gone wrong in one.
const awkward = `p'a"s\s $x ${y} %; #é–` + "`?:name"

// Run runs the suite.
func Run(t *testing.T, h Host) {
	for name, test := range map[string]func(*testing.T, *suite){
		"version":               version,
		"databases":             databases,
		"user may use its own":  userMayUseItsOwn,
		"user may use no other": userMayUseNoOther,
		"patterns are escaped":  patternsAreEscaped,
		"taken user":            takenUser,
		"rights of a user":      rightsOfAUser,
		"tables are dropped":    tablesAreDropped,
		"script":                script,
		"script fails":          scriptFails,
		"values":                values,
		"dates":                 dates,
		"wrong password":        wrongPassword,
		"no right to create":    noRightToCreate,
		"nobody there":          nobodyThere,
	} {
		t.Run(name, func(t *testing.T) {
			s := &suite{Host: h, ctx: context.Background()}
			var err error
			s.server, err = h.Connect(s.ctx, h.Admin)
			require.NoError(t, err)
			defer s.server.Close()
			test(t, s)
		})
	}
}

type suite struct {
	Host
	ctx    context.Context
	server database.Server
}

// site makes a database and its user, gone at the end of the test, and signs
// in as that user.
func (s *suite) site(t *testing.T, name string) database.Session {
	t.Helper()
	u := s.makeSite(t, name)
	session, err := s.Open(s.ctx, s.login(u))
	require.NoError(t, err)
	t.Cleanup(func() { _ = session.Close() })
	return session
}

func (s *suite) makeSite(t *testing.T, name string) database.User {
	t.Helper()
	u := database.User{Name: name, Clients: []string{"localhost", "127.0.0.1"}, Password: secret.Of(awkward), Database: name}
	t.Cleanup(func() {
		server, err := s.Connect(s.ctx, s.Admin)
		require.NoError(t, err)
		defer server.Close()
		assert.NoError(t, server.DropUser(s.ctx, u))
		assert.NoError(t, server.DropDatabase(s.ctx, name))
	})
	require.NoError(t, s.server.CreateDatabase(s.ctx, name))
	require.NoError(t, s.server.CreateUser(s.ctx, u))
	return u
}

func (s *suite) login(u database.User) database.Login {
	return database.Login{Server: s.Admin.Server, User: u.Name, Password: u.Password, Database: u.Database}
}

func version(t *testing.T, s *suite) {
	engine, number, err := s.server.Version(s.ctx)
	require.NoError(t, err)
	assert.Equal(t, "mariadb", engine)
	assert.Regexp(t, `^\d+\.\d+\.\d+$`, number)
	assert.NoError(t, s.server.MayCreate(s.ctx))
}

func databases(t *testing.T, s *suite) {
	require.NoError(t, s.server.CreateDatabase(s.ctx, "quill_one"))
	names, err := s.server.Databases(s.ctx)
	require.NoError(t, err)
	assert.Contains(t, names, "quill_one")
	assert.ErrorIs(t, s.server.CreateDatabase(s.ctx, "quill_one"), database.ErrTaken)
	require.NoError(t, s.server.DropDatabase(s.ctx, "quill_one"))
	require.NoError(t, s.server.DropDatabase(s.ctx, "quill_one"), "dropping twice is fine")
	names, err = s.server.Databases(s.ctx)
	require.NoError(t, err)
	assert.NotContains(t, names, "quill_one")
}

func userMayUseItsOwn(t *testing.T, s *suite) {
	session := s.site(t, "quill_own")
	require.NoError(t, session.Exec(s.ctx, "CREATE TABLE notes (id INT NOT NULL PRIMARY KEY, text VARCHAR(100))", nil))
	tables, err := session.Tables(s.ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"notes"}, tables)
	users, err := s.server.Users(s.ctx)
	require.NoError(t, err)
	assert.Contains(t, users, "quill_own")
}

func rightsOfAUser(t *testing.T, s *suite) {
	session := s.site(t, "quill_rights")
	lacking, err := session.Lacking(s.ctx)
	require.NoError(t, err)
	assert.Empty(t, lacking)
	engine, number, err := session.Version(s.ctx)
	require.NoError(t, err)
	assert.Equal(t, "mariadb", engine)
	assert.Regexp(t, `^\d+\.\d+\.\d+$`, number)
}

func tablesAreDropped(t *testing.T, s *suite) {
	session := s.site(t, "quill_tables")
	for _, statement := range []string{
		"CREATE TABLE a_one (id INT NOT NULL PRIMARY KEY)",
		"CREATE TABLE a_two (id INT NOT NULL PRIMARY KEY, one INT NOT NULL, FOREIGN KEY (one) REFERENCES a_one (id))",
		"CREATE TABLE b_three (id INT NOT NULL PRIMARY KEY)",
	} {
		require.NoError(t, session.Exec(s.ctx, statement, nil))
	}
	require.NoError(t, session.DropTables(s.ctx, []string{"a_one", "a_two", "a_none"}), "whatever refers to them")
	tables, err := session.Tables(s.ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"b_three"}, tables)
}

func userMayUseNoOther(t *testing.T, s *suite) {
	s.makeSite(t, "quill_other")
	u := s.makeSite(t, "quill_mine")
	login := s.login(u)
	login.Database = "quill_other"
	_, err := s.Open(s.ctx, login)
	assert.Error(t, err)
	login.Database = ""
	server, err := s.Connect(s.ctx, login)
	require.NoError(t, err)
	defer server.Close()
	assert.Error(t, server.CreateDatabase(s.ctx, "quill_more"))
	assert.Error(t, server.MayCreate(s.ctx))
	names, err := server.Databases(s.ctx)
	require.NoError(t, err)
	assert.NotContains(t, names, "quill_other")
}

// patternsAreEscaped: in a grant, _ stands for any character.
func patternsAreEscaped(t *testing.T, s *suite) {
	s.makeSite(t, "quillxa")
	u := s.makeSite(t, "quill_a")
	login := s.login(u)
	login.Database = "quillxa"
	_, err := s.Open(s.ctx, login)
	assert.Error(t, err, "a user of quill_a has no rights on quillxa")
}

func takenUser(t *testing.T, s *suite) {
	u := s.makeSite(t, "quill_taken")
	assert.ErrorIs(t, s.server.CreateUser(s.ctx, u), database.ErrTaken)
	require.NoError(t, s.server.DropUser(s.ctx, u))
	require.NoError(t, s.server.DropUser(s.ctx, u), "dropping twice is fine")
}

const schema = `-- a comment; with a semicolon
CREATE TABLE ink_posts (
  id INT UNSIGNED NOT NULL AUTO_INCREMENT,
  title VARCHAR(100) NOT NULL,
  body TEXT,
  PRIMARY KEY (id),
  KEY by_title (title)
) ENGINE=InnoDB DEFAULT CHARSET=utf8mb4;
/* another; one */
INSERT INTO ink_posts (title, body) VALUES ('it''s; here', 'ink_posts "quoted"\n-- no comment'), ('zwei – é', NULL);
# the last
INSERT INTO ` + "`ink_posts`" + ` (title) VALUES ('drei')`

func script(t *testing.T, s *suite) {
	session := s.site(t, "quill_script")
	n, err := session.Run(s.ctx, strings.NewReader(schema), database.ScriptOptions{From: "ink_", To: "t1_"})
	require.NoError(t, err)
	assert.Equal(t, 3, n)
	tables, err := session.Tables(s.ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"t1_posts"}, tables)
	body, err := session.Value(s.ctx, "SELECT body FROM t1_posts WHERE title = :t", map[string]string{"t": "it's; here"})
	require.NoError(t, err)
	assert.Equal(t, "ink_posts \"quoted\"\n-- no comment", body, "strings are left alone")
	count, err := session.Value(s.ctx, "SELECT count(*) FROM t1_posts", nil)
	require.NoError(t, err)
	assert.Equal(t, "3", count)
}

func scriptFails(t *testing.T, s *suite) {
	session := s.site(t, "quill_fails")
	n, err := session.Run(s.ctx, strings.NewReader("CREATE TABLE a (x INT);\n\nSELECT nonsense FROM nowhere;\n"), database.ScriptOptions{})
	assert.Equal(t, 1, n)
	assert.ErrorContains(t, err, "line 3")
}

func values(t *testing.T, s *suite) {
	session := s.site(t, "quill_values")
	require.NoError(t, session.Exec(s.ctx, "CREATE TABLE v (name VARCHAR(20) NOT NULL PRIMARY KEY, value TEXT)", nil))
	for _, v := range []string{awkward, "", "'; DROP TABLE v; --", "line\nbreak", "\x1a\\", "日本"} {
		require.NoError(t, session.Exec(s.ctx, "DELETE FROM v", nil))
		require.NoError(t, session.Exec(s.ctx, "INSERT INTO v (name, value) VALUES ('a:b', :value)", map[string]string{"value": v}))
		got, err := session.Value(s.ctx, "SELECT value FROM v WHERE name = 'a:b'", nil)
		require.NoError(t, err)
		assert.Equal(t, v, got)
	}
	_, err := session.Value(s.ctx, "SELECT value FROM v WHERE name = 'none'", nil)
	assert.ErrorIs(t, err, database.ErrNoRow)
	assert.ErrorContains(t, session.Exec(s.ctx, "DELETE FROM v WHERE name = :x", nil), ":x")
}

func dates(t *testing.T, s *suite) {
	session := s.site(t, "quill_dates")
	require.NoError(t, session.Exec(s.ctx, "CREATE TABLE d (id INT NOT NULL PRIMARY KEY, at DATETIME NOT NULL, on_day DATE NOT NULL)", nil))
	require.NoError(t, session.Exec(s.ctx, "INSERT INTO d (id, at, on_day) VALUES (1, '2026-10-19 20:11:00', '2026-10-19')", nil))
	for column, want := range map[string]string{"at": "2026-10-19 20:11:00", "on_day": "2026-10-19"} {
		got, err := session.Value(s.ctx, "SELECT "+column+" FROM d", nil)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
}

func wrongPassword(t *testing.T, s *suite) {
	login := s.Admin
	login.Password = secret.Of("not this one")
	_, err := s.Connect(s.ctx, login)
	assert.ErrorContains(t, err, "refused the user or password")
	assert.NotContains(t, err.Error(), "not this one")
}

func noRightToCreate(t *testing.T, s *suite) {
	u := s.makeSite(t, "quill_small")
	server, err := s.Connect(s.ctx, s.login(u))
	require.NoError(t, err)
	defer server.Close()
	assert.ErrorContains(t, server.MayCreate(s.ctx), "lacks a right")
}

func nobodyThere(t *testing.T, s *suite) {
	login := s.Admin
	login.Server = "127.0.0.1:1"
	_, err := s.Connect(s.ctx, login)
	assert.ErrorIs(t, err, database.ErrGone)
	assert.ErrorContains(t, err, "does not answer")
}
