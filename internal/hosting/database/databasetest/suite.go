// Package databasetest proves that a database server keeps the contract of
// package database. Every implementation, and the stand-in, passes it.
package databasetest

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/hosting/database"
	"tivset/internal/secret"
)

// Host is a server under test.
type Host struct {
	Engine  string
	Bare    bool // it knows neither users nor passwords
	NoDump  bool // it cannot dump
	Helped  bool // a helper makes what is to be made: nobody signs in to it
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
		"dump and load":         dumpAndLoad,
		"large script":          largeScript,
		"script fails":          scriptFails,
		"values":                values,
		"dates":                 dates,
		"wrong password":        wrongPassword,
		"no right to create":    noRightToCreate,
		"nobody there":          nobodyThere,
	} {
		if h.lacks(name) {
			continue
		}
		t.Run(name, func(t *testing.T) {
			s := &suite{Host: h, dialect: dialects[h.Engine], ctx: context.Background()}
			var err error
			s.server, err = h.Connect(s.ctx, h.Admin)
			require.NoError(t, err)
			defer s.server.Close()
			test(t, s)
		})
	}
}

// withUsers are the tests that make sense only where there are users.
var withUsers = map[string]bool{"user may use no other": true, "patterns are escaped": true, "taken user": true,
	"wrong password": true, "no right to create": true, "nobody there": true}

// lacks says whether the host lacks what a test is about.
func (h Host) lacks(test string) bool {
	return h.Bare && withUsers[test] || h.Helped && signedIn[test] || h.NoDump && test == "dump and load"
}

// signedIn are the tests of who signs in to the server.
var signedIn = map[string]bool{"user may use no other": true, "wrong password": true, "no right to create": true,
	"nobody there": true}

type suite struct {
	Host
	dialect
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
	u := database.User{Name: name, Clients: []string{"localhost", "127.0.0.1"}, Password: secret.Of(awkward),
		Database: name}
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
	assert.Equal(t, s.Engine, engine)
	assert.Regexp(t, s.version, number)
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
	require.NoError(t, session.Exec(s.ctx, s.notes, nil))
	tables, err := session.Tables(s.ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"notes"}, tables)
	sizes, err := s.server.Sizes(s.ctx)
	require.NoError(t, err)
	assert.GreaterOrEqual(t, sizes["quill_own"], int64(0))
	users, err := s.server.Users(s.ctx)
	require.NoError(t, err)
	if !s.Bare {
		assert.Contains(t, users, "quill_own")
	}
}

func rightsOfAUser(t *testing.T, s *suite) {
	session := s.site(t, "quill_rights")
	lacking, err := session.Lacking(s.ctx)
	require.NoError(t, err)
	assert.Empty(t, lacking)
	engine, number, err := session.Version(s.ctx)
	require.NoError(t, err)
	assert.Equal(t, s.Engine, engine)
	assert.Regexp(t, s.version, number)
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

func script(t *testing.T, s *suite) {
	session := s.site(t, "quill_script")
	n, err := session.Run(s.ctx, strings.NewReader(s.schema), database.ScriptOptions{From: "ink_", To: "t1_"})
	require.NoError(t, err)
	assert.Equal(t, s.ran, n)
	tables, err := session.Tables(s.ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"t1_entries"}, tables)
	body, err := session.Value(s.ctx, "SELECT body FROM t1_entries WHERE title = :t", map[string]string{"t": "it's; here"})
	require.NoError(t, err)
	assert.Equal(t, s.quoted, body, "strings are left alone")
	count, err := session.Value(s.ctx, "SELECT count(*) FROM t1_entries", nil)
	require.NoError(t, err)
	assert.Equal(t, "3", count)
}

// dumpAndLoad: what comes out of one database goes into another, and is the
// same there.
func dumpAndLoad(t *testing.T, s *suite) {
	from, to := s.site(t, "quill_from"), s.site(t, "quill_to")
	_, err := from.Run(s.ctx, strings.NewReader(s.rich), database.ScriptOptions{})
	require.NoError(t, err)
	var text, again, part strings.Builder
	require.NoError(t, from.Dump(s.ctx, &text, nil))
	_, err = to.Run(s.ctx, strings.NewReader(text.String()), database.ScriptOptions{})
	require.NoError(t, err, text.String())
	require.NoError(t, to.Dump(s.ctx, &again, nil))
	assert.Equal(t, text.String(), again.String(), "dumped again it is the same")
	require.NoError(t, from.Dump(s.ctx, &part, func(table string) bool { return table == "boats" }))
	assert.Contains(t, part.String(), "boats")
	assert.NotContains(t, part.String(), "trips")
	for ask := range slices.Chunk(s.asks, 2) {
		got, err := to.Value(s.ctx, ask[0], nil)
		require.NoError(t, err, ask[0])
		assert.Equal(t, ask[1], got, ask[0])
	}
	for _, made := range s.beyond {
		_, err := from.Run(s.ctx, strings.NewReader(made[0]), database.ScriptOptions{})
		require.NoError(t, err, made[0])
		assert.ErrorContains(t, from.Dump(s.ctx, io.Discard, nil), made[1], "what would not come back is not passed over")
		_, err = from.Run(s.ctx, strings.NewReader(made[2]), database.ScriptOptions{})
		require.NoError(t, err)
	}
	// What is emptied can be loaded again, and then is as it was.
	require.NoError(t, to.Empty(s.ctx, func(table string) bool { return table == "boats" }))
	tables, err := to.Tables(s.ctx)
	require.NoError(t, err)
	assert.NotContains(t, tables, "boats")
	assert.Contains(t, tables, "trips")
	require.NoError(t, to.Empty(s.ctx, nil))
	tables, err = to.Tables(s.ctx)
	require.NoError(t, err)
	assert.Empty(t, tables)
	_, err = to.Run(s.ctx, strings.NewReader(text.String()), database.ScriptOptions{})
	require.NoError(t, err)
	again.Reset()
	require.NoError(t, to.Dump(s.ctx, &again, nil))
	assert.Equal(t, text.String(), again.String())
}

// largeScript: a script of many megabytes is run as it is read.
func largeScript(t *testing.T, s *suite) {
	session := s.site(t, "quill_large")
	require.NoError(t, session.Exec(s.ctx, s.notes, nil))
	const rows, perStatement = 20_000, 500
	n, err := session.Run(s.ctx, &manyRows{rows: rows, each: perStatement}, database.ScriptOptions{})
	require.NoError(t, err)
	assert.Equal(t, rows/perStatement, n)
	count, err := session.Value(s.ctx, "SELECT count(*) FROM notes", nil)
	require.NoError(t, err)
	assert.Equal(t, strconv.Itoa(rows), count)
}

// manyRows writes INSERT statements as they are read.
type manyRows struct {
	rows, each, at int
	rest           []byte
}

func (m *manyRows) Read(p []byte) (int, error) {
	if len(m.rest) == 0 && m.at == m.rows {
		return 0, io.EOF
	}
	if len(m.rest) == 0 {
		var out strings.Builder
		out.WriteString("INSERT INTO notes (id, text) VALUES ")
		for i := range m.each {
			if i > 0 {
				out.WriteString(",\n")
			}
			fmt.Fprintf(&out, "(%d, 'row %d; -- of ''many'' %s')", m.at, m.at, strings.Repeat("x", 60))
			m.at++
		}
		out.WriteString(";\n")
		m.rest = []byte(out.String())
	}
	n := copy(p, m.rest)
	m.rest = m.rest[n:]
	return n, nil
}

func scriptFails(t *testing.T, s *suite) {
	session := s.site(t, "quill_fails")
	n, err := session.Run(s.ctx, strings.NewReader("CREATE TABLE a (x INT);\n\nSELECT nonsense FROM nowhere;\n"),
		database.ScriptOptions{})
	assert.Equal(t, 1, n)
	assert.ErrorContains(t, err, "line 3")
}

func values(t *testing.T, s *suite) {
	session := s.site(t, "quill_values")
	require.NoError(t, session.Exec(s.ctx, "CREATE TABLE v (name VARCHAR(20) NOT NULL PRIMARY KEY, value TEXT)", nil))
	for _, v := range []string{awkward, "", "'; DROP TABLE v; --", "line\nbreak", "\x1a\\", "日本"} {
		require.NoError(t, session.Exec(s.ctx, "DELETE FROM v", nil))
		require.NoError(t, session.Exec(s.ctx, "INSERT INTO v (name, value) VALUES ('a:b', :value)",
			map[string]string{"value": v}))
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
	require.NoError(t, session.Exec(s.ctx, s.dated, nil))
	require.NoError(t, session.Exec(s.ctx,
		"INSERT INTO d (id, at, on_day) VALUES (1, '2026-10-19 20:11:00', '2026-10-19')", nil))
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
