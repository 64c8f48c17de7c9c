package team_test

import (
	"errors"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/home"
	"tivset/internal/records/ledger"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/secret"
	"tivset/internal/trial/servers"
)

// sql is somebody who can write what they like into the database.
func sql(t *testing.T, at, statement string) {
	t.Helper()
	c := connected(t, at)
	_, err := c.Exec(ctx, "SET search_path TO tivset")
	require.NoError(t, err)
	_, err = c.Exec(ctx, statement)
	require.NoError(t, err)
}

// asUser is an address with another user of the database.
func asUser(t *testing.T, at, user, password string) string {
	t.Helper()
	u, err := url.Parse(at)
	require.NoError(t, err)
	u.User = url.UserPassword(user, password)
	return u.String()
}

func notBelieved(t *testing.T, err error, more ...any) {
	t.Helper()
	assert.Equal(t, fault.NotBelieved, fault.CodeOf(err), append([]any{fmt.Sprint(err)}, more...)...)
}

// What somebody writes into the rows of sites, accounts, secrets and jobs who is of no team is not used, however it
// is read: changed, put back as it once was, added, or taken away.
func TestForgedRows(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	m := begun(t, at)
	site := ledger.Site{Address: "lockside.localhost/forum", Title: "one", Account: "quillmere"}
	require.NoError(t, m.Ledger.PutSite(ctx, site))
	require.NoError(t, m.Ledger.PutRedirect(ctx, ledger.Redirect{Address: "lockside.localhost/old"}))
	require.NoError(t, m.Ledger.PutJob(ctx, ledger.Job{ID: "20261123-080000-abcd"}))
	require.NoError(t, m.Home.PutAccountFile("quillmere", []byte("account: quillmere\nconnect: here\n")))
	require.NoError(t, m.Vault.Set(map[string]secret.Text{"quillmere/login": secret.Of("one"),
		"quillmere/data": secret.Of("other")}))
	reads := map[string]func() error{
		"sites":     func() error { _, err := m.Ledger.Sites(ctx); return err },
		"addresses": func() error { _, err := m.Ledger.Addresses(ctx); return err },
		"site":      func() error { _, err := m.Ledger.Site(ctx, site.Address); return err },
		"care":      func() error { return m.Ledger.KeepSite(ctx, site) },
		"redirects": func() error { _, err := m.Ledger.Redirects(ctx); return err },
		"jobs":      func() error { _, err := m.Ledger.Jobs(ctx, ledger.JobFilter{}); return err },
		"job":       func() error { _, err := m.Ledger.Job(ctx, "20261123-080000-abcd"); return err },
		"account":   func() error { _, err := m.Home.AccountFile("quillmere"); return err },
		"accounts":  func() error { _, err := m.Home.Accounts(); return err },
		"secret":    func() error { _, err := m.Vault.Get("quillmere/login"); return err },
		"names":     func() error { _, err := m.Vault.Names("quillmere/"); return err },
	}
	for name, read := range reads {
		require.NoError(t, read(), name)
	}
	for attack, c := range map[string]struct {
		do, undo string
		found    string // by these
	}{
		"a site's title": {"UPDATE sites SET record = replace(record, 'one', 'two')",
			"UPDATE sites SET record = replace(record, 'two', 'one')", "sites site care"},
		"a site that never was": {"INSERT INTO sites SELECT 'a.localhost', account, record FROM sites",
			"DELETE FROM sites WHERE address = 'a.localhost'", "sites addresses"},
		"a site that is gone": {"ALTER TABLE sites RENAME TO kept; CREATE TABLE sites (LIKE kept INCLUDING ALL)",
			"DROP TABLE sites; ALTER TABLE kept RENAME TO sites", "sites addresses site care"},
		"a redirect": {"UPDATE redirects SET record = record || ' '", "UPDATE redirects SET record = rtrim(record)",
			"redirects"},
		"a job": {"UPDATE jobs SET record = record || ' '", "UPDATE jobs SET record = rtrim(record)", "jobs job"},
		"where an account is signed in at": {"UPDATE accounts SET file = replace(file, 'here', 'sftp://x@b.localhost')",
			"UPDATE accounts SET file = replace(file, 'sftp://x@b.localhost', 'here')", "account"},
		"an account of a stranger": {"INSERT INTO accounts VALUES ('another', 'account: another')",
			"DELETE FROM accounts WHERE name = 'another'", "accounts"},
		"one secret in another's place": {"CREATE TABLE kept AS SELECT * FROM vault; UPDATE vault SET sealed = (SELECT " +
			"sealed FROM kept WHERE name = 'quillmere/data') WHERE name = 'quillmere/login'",
			"UPDATE vault SET sealed = kept.sealed FROM kept WHERE kept.name = vault.name; DROP TABLE kept", "secret"},
		"a secret that is gone": {"CREATE TABLE kept AS SELECT * FROM vault; DELETE FROM vault WHERE name = " +
			"'quillmere/login'",
			"INSERT INTO vault SELECT * FROM kept WHERE name = 'quillmere/login'; DROP TABLE kept", "secret names"},
	} {
		sql(t, at, c.do)
		for name, read := range reads {
			if err := read(); strings.Contains(" "+c.found+" ", " "+name+" ") {
				notBelieved(t, err, attack, name)
			} else {
				assert.NoError(t, err, "%s: %s", attack, name)
			}
		}
		sql(t, at, c.undo)
	}
	for name, read := range reads {
		require.NoError(t, read(), name)
	}
}

// A row that was right once, and was replaced or dropped since, is not right any more.
func TestOldRows(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	m := begun(t, at)
	require.NoError(t, m.Vault.Set(map[string]secret.Text{"sites/a/admin.password": secret.Of("old")}))
	require.NoError(t, m.Ledger.PutSite(ctx, ledger.Site{Address: "a.localhost"}))
	sql(t, at, "CREATE TABLE old_vault AS SELECT * FROM vault; CREATE TABLE old_sites AS SELECT * FROM sites")
	require.NoError(t, m.Vault.Set(map[string]secret.Text{"sites/a/admin.password": secret.Of("new")}))
	require.NoError(t, m.Ledger.DropSite(ctx, "a.localhost"))
	sql(t, at, "UPDATE vault SET sealed = o.sealed FROM old_vault o WHERE o.name = vault.name AND vault.name LIKE "+
		"'sites/%'; "+
		"INSERT INTO sites SELECT * FROM old_sites")
	_, err := m.Vault.Get("sites/a/admin.password")
	notBelieved(t, err)
	_, err = m.Ledger.Site(ctx, "a.localhost")
	notBelieved(t, err)
}

// Whoever can write into the database does not become a member: neither by another charter, nor by swapping a key of
// one, nor by entries of his own; everything stops, and nothing is encrypted to him.
func TestAStrangerIsNoMember(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	first := begun(t, at)
	require.NoError(t, first.Vault.Set(map[string]secret.Text{"sites/a/admin.password": secret.Of("one")}))
	begun(t, at+"&ledger=another") // a team of the stranger's own, whose entries he can sign

	for attack, statement := range map[string]string{
		"an entry of another team": "INSERT INTO log SELECT (SELECT max(n) + 1 FROM log), entry, signature, kind, key, " +
			"about, member " +
			"FROM another.log WHERE n = 1",
		"an entry once more": "INSERT INTO log SELECT (SELECT max(n) + 1 FROM log), entry, signature, kind, key, about, " +
			"member " +
			"FROM log WHERE n = 2",
		"an entry that is no entry": "INSERT INTO log SELECT (SELECT max(n) + 1 FROM log), 'x', '', '', '', '', ''",
	} {
		sql(t, at, statement)
		err := first.Vault.Set(map[string]secret.Text{"sites/b/admin.password": secret.Of("two")})
		notBelieved(t, err, attack)
		_, err = first.team.Sites(ctx)
		notBelieved(t, err, attack)
		d, err := first.team.Differs(ctx)
		require.NoError(t, err)
		require.NotNil(t, d, attack)
		assert.True(t, d.Bad)
		assert.Empty(t, d.Lost)
		require.NoError(t, first.team.Accept(ctx), attack)
		_, err = first.team.Sites(ctx)
		require.NoError(t, err, attack)
	}
	// the whole log of another team in the place of this one
	sql(t, at, "ALTER TABLE log RENAME TO ours; CREATE TABLE log AS SELECT * FROM another.log")
	_, err := first.team.Sites(ctx)
	notBelieved(t, err)
	fresh := open(t, at)
	_, err = fresh.Enter(ctx, home.At(t.TempDir()), first.founded)
	notBelieved(t, err, "also for a machine that has seen nothing yet, and compares the fingerprint")
	sql(t, at, "DROP TABLE log; ALTER TABLE ours RENAME TO log")
	_, err = first.team.Sites(ctx)
	require.NoError(t, err)
}

// A database that was put back as it was before somebody left does not bring them back: everything stops, what is
// lost is said, and an admin goes on with those who are members now. Other machines follow that admin, and no one else.
func TestADatabaseThatIsPutBack(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	first := begun(t, at)
	second := first.member(t, at, "steward", trust.Operate)
	leaves := first.member(t, at, "former", trust.Admin)
	require.NoError(t, first.Ledger.PutSite(ctx, ledger.Site{Address: "a.localhost"}))
	sql(t, at, "CREATE SCHEMA dump")
	for _, table := range []string{"log", "vault", "sites"} {
		sql(t, at, "CREATE TABLE dump."+table+" AS SELECT * FROM "+table)
	}
	require.NoError(t, first.team.Leave(ctx, "former", first.Vault))
	require.NoError(t, first.Vault.Set(map[string]secret.Text{"sites/a/admin.password": secret.Of("since")}))
	require.NoError(t, first.Ledger.PutSite(ctx, ledger.Site{Address: "b.localhost"}))
	_, err := second.Ledger.Sites(ctx)
	require.NoError(t, err)
	for _, table := range []string{"log", "vault", "sites"} {
		sql(t, at, "DELETE FROM "+table+"; INSERT INTO "+table+" SELECT * FROM dump."+table)
	}
	for _, m := range []machine{first, second} {
		_, err := m.Ledger.Sites(ctx)
		notBelieved(t, err)
		notBelieved(t, m.Vault.Set(map[string]secret.Text{"x/y": secret.Of("z")}))
	}
	d, err := first.team.Differs(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"former"}, d.Back)
	assert.Contains(t, d.Lost, "site b.localhost")
	assert.Contains(t, d.Lost, "secret sites/a/admin.password")
	assert.NotContains(t, d.Lost, "site a.localhost")

	// one who is a member in the dump alone makes entries, and even accepts: nobody follows
	require.NoError(t, leaves.Ledger.PutSite(ctx, ledger.Site{Address: "theirs.localhost"}))
	require.NoError(t, leaves.team.Accept(ctx))
	for _, m := range []machine{first, second} {
		_, err := m.Ledger.Sites(ctx)
		notBelieved(t, err)
	}
	assert.Error(t, second.team.Accept(ctx), "who is no admin accepts nothing")
	require.NoError(t, first.team.Accept(ctx))
	all, err := second.Ledger.Sites(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1, "what the former member wrote meanwhile counts for nobody")
	assert.Equal(t, "a.localhost", all[0].Address)
	for _, m := range []machine{first, second} {
		c, err := m.team.Charter(ctx)
		require.NoError(t, err)
		assert.Nil(t, c.Member("former"))
		require.NoError(t, m.Vault.Set(map[string]secret.Text{"sites/a/admin.password": secret.Of("anew")}))
	}
	_, err = leaves.Vault.Get("sites/a/admin.password")
	assert.Error(t, err)
	got, err := second.Vault.Get("sites/a/admin.password")
	require.NoError(t, err)
	assert.Equal(t, "anew", got.Reveal())
}

// After somebody wrote into rows an admin goes on without them, and sees which they are.
func TestGoingOnWithoutForgedRows(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	m := begun(t, at)
	for _, name := range []string{"a", "b", "c"} {
		require.NoError(t, m.Ledger.PutSite(ctx, ledger.Site{Address: name + ".localhost", Title: "one"}))
	}
	d, err := m.team.Differs(ctx)
	require.NoError(t, err)
	assert.Nil(t, d)
	sql(t, at, "UPDATE sites SET record = replace(record, 'one', 'two') WHERE address = 'a.localhost'; DELETE FROM sites "+
		"WHERE address = 'b.localhost'; INSERT INTO accounts VALUES ('theirs', 'account: theirs')")
	_, err = m.Ledger.Sites(ctx)
	notBelieved(t, err)
	d, err = m.team.Differs(ctx)
	require.NoError(t, err)
	require.NotNil(t, d)
	assert.Equal(t, []string{"site a.localhost", "site b.localhost"}, d.Lost)
	assert.Equal(t, []string{"account theirs"}, d.Foreign)
	require.NoError(t, m.team.Accept(ctx))
	all, err := m.Ledger.Sites(ctx)
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.Equal(t, "c.localhost", all[0].Address)
	names, err := m.Home.Accounts()
	require.NoError(t, err)
	assert.Empty(t, names)
}

// Who may only look writes nothing, also past this program: what they sign themselves is refused by everybody.
func TestWhoMayOnlyLook(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	first := begun(t, at)
	require.NoError(t, first.Ledger.PutSite(ctx, ledger.Site{Address: "a.localhost", Title: "one"}))
	require.NoError(t, first.Vault.Set(map[string]secret.Text{"sites/a.localhost/x": secret.Of("one")}))
	office := first.member(t, at, "office", trust.Look)
	all, err := office.Ledger.Sites(ctx)
	require.NoError(t, err)
	assert.Len(t, all, 1)
	for what, err := range map[string]error{
		"forget":   office.Ledger.DropSite(ctx, "a.localhost"),
		"care":     office.Ledger.PutSite(ctx, ledger.Site{Address: "a.localhost"}),
		"secrets":  office.Vault.Forget("sites/a.localhost/"),
		"an own":   office.Vault.Set(map[string]secret.Text{"x": secret.Of("y")}),
		"account":  office.Home.PutAccountFile("quillmere", nil),
		"a member": office.team.Leave(ctx, "wharfinger", office.Vault),
		"accept":   office.team.Accept(ctx),
	} {
		assert.Equal(t, fault.MayOnlyLook, fault.CodeOf(err), "%s: %v", what, err)
	}
	_, err = first.Ledger.Site(ctx, "a.localhost")
	require.NoError(t, err)
	_, err = first.Vault.Get("sites/a.localhost/x")
	require.NoError(t, err)
	log, err := first.team.History(ctx, team.HistoryOf{Member: "office", Most: 10})
	require.NoError(t, err)
	assert.Empty(t, log)
}

// A journal that nobody of the team wrote is not carried out: invented, changed, one line more, put back after its job
// ended, or written by somebody who has left.
func TestForgedJournals(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	first := begun(t, at)
	leaves := first.member(t, at, "former", trust.Operate)
	log, err := leaves.Journals.New(id)
	require.NoError(t, err)
	require.NoError(t, log.Append([]byte("first\n")))
	require.NoError(t, log.Append([]byte("second\n")))
	require.NoError(t, log.Close())
	read := func(of string) error {
		log, err := first.Journals.Open(of)
		if err != nil {
			return err
		}
		defer log.Close()
		_, err = log.Lines()
		return err
	}
	require.NoError(t, read(id))
	sql(t, at, "CREATE TABLE kept AS SELECT * FROM journals")
	for attack, statement := range map[string]string{
		"changed":   "UPDATE journals SET line = 'other' WHERE n = 1",
		"one more":  "INSERT INTO journals SELECT id, 2, line, member, signature FROM journals WHERE n = 1",
		"the order": "UPDATE journals SET n = CASE n WHEN 0 THEN 7 ELSE 0 END",
	} {
		sql(t, at, statement)
		notBelieved(t, read(id), attack)
		sql(t, at, "DELETE FROM journals; INSERT INTO journals SELECT * FROM kept")
	}
	sql(t, at, "INSERT INTO journals SELECT '20261123-080000-efgh', n, line, member, signature FROM kept")
	notBelieved(t, read("20261123-080000-efgh"), "invented")

	require.NoError(t, first.team.Leave(ctx, "former", first.Vault))
	require.NoError(t, read(id), "what they wrote while they were of the team")
	log, err = leaves.Journals.Open(id)
	if err == nil { // their program does not ask
		assert.Error(t, log.Append([]byte("third\n")))
		require.NoError(t, log.Close())
	}
	mine, err := first.Journals.Open(id)
	require.NoError(t, err)
	require.NoError(t, mine.Append([]byte("undone\n")))
	require.NoError(t, mine.Close())
	require.NoError(t, read(id), "somebody else goes on with it")
	require.NoError(t, first.Journals.Drop(id))
	sql(t, at, "INSERT INTO journals SELECT * FROM kept")
	notBelieved(t, read(id), "put back after its job ended")
}

// With a user of the database of their own, who may only look cannot even try.
func TestRightsOfTheDatabase(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	first := begun(t, at)
	require.NoError(t, first.Ledger.PutSite(ctx, ledger.Site{Address: "a.localhost"}))
	for role, may := range map[string]trust.Role{"office": trust.Look, "steward": trust.Operate} {
		text, err := first.team.Grants(ctx, role, may)
		require.NoError(t, err)
		sql(t, at, strings.ReplaceAll(text, "'PASSWORD'", "'their own'"))
		m := first.member(t, at, role, may)
		_ = m.team.Close()
		own := open(t, asUser(t, at, role, "their own"))
		_, err = own.Enter(ctx, m.home, first.founded)
		require.NoError(t, err)
		_, err = own.Sites(ctx)
		require.NoError(t, err, role)
		c := connected(t, asUser(t, at, role, "their own"))
		for _, statement := range []string{"DELETE FROM tivset.log", "UPDATE tivset.log SET entry = 'x'"} {
			_, err = c.Exec(ctx, statement)
			assert.ErrorContains(t, err, "permission denied", "%s: %s", role, statement)
		}
		_, err = c.Exec(ctx, "SELECT * FROM tivset.vault")
		_, changed := c.Exec(ctx, "UPDATE tivset.sites SET record = record")
		if may == trust.Look {
			assert.ErrorContains(t, err, "permission denied")
			assert.ErrorContains(t, changed, "permission denied")
			continue
		}
		assert.NoError(t, errors.Join(err, changed))
		require.NoError(t, own.PutSite(ctx, ledger.Site{Address: "b.localhost"}))
		require.NoError(t, own.Place(m.home).Vault.Set(map[string]secret.Text{"x": secret.Of("y")}))
		log, err := own.Place(m.home).Journals.New(id)
		require.NoError(t, err)
		require.NoError(t, log.Append([]byte("x")))
		require.NoError(t, log.Close())
		require.NoError(t, own.Place(m.home).Journals.Drop(id))
	}
}
