package team_test

import (
	"context"
	dbsql "database/sql"
	"fmt"
	"net/url"
	"path/filepath"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/records/ledger/ledgertest"
	"tivset/internal/records/team"
	"tivset/internal/records/trust"
	"tivset/internal/records/vault"
	"tivset/internal/secret"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
)

var ctx = context.Background()

// address is that of a new database.
func address(t *testing.T) string { return sitetest.Records(t) }

func connected(t *testing.T, at string) *pgx.Conn {
	t.Helper()
	c, err := pgx.Connect(ctx, at)
	require.NoError(t, err)
	t.Cleanup(func() { _ = c.Close(ctx) })
	return c
}

func open(t *testing.T, at string) *team.Team {
	t.Helper()
	l, err := team.Open(ctx, at, time.Now)
	require.NoError(t, err)
	t.Cleanup(func() { _ = l.Close() })
	return l
}

// machine is a home of its own, with its place in the team.
type machine struct {
	home home.Home
	team *team.Team
	team.Place
	founded string
}

// begun is the machine that began a ledger in a database.
func begun(t *testing.T, at string) machine {
	t.Helper()
	m := machine{home: home.At(t.TempDir()), team: open(t, at)}
	founded, err := m.team.Begin(ctx, m.home, "wharfinger", &team.Belongings{}, secret.Of("00ff"))
	require.NoError(t, err)
	m.founded, m.Place = founded, m.team.Place(m.home)
	return m
}

// member is a machine of the team that m is of, by that name.
func (m machine) member(t *testing.T, at, name string, may trust.Role) machine {
	t.Helper()
	one := machine{home: home.At(t.TempDir()), team: open(t, at), founded: m.founded}
	me, err := team.Me(one.home)
	require.NoError(t, err)
	me.Name, me.May = name, may
	require.NoError(t, m.team.Join(ctx, me, m.Vault))
	_, err = one.team.Enter(ctx, one.home, m.founded)
	require.NoError(t, err)
	one.Place = one.team.Place(one.home)
	return one
}

// again is another program of the same machine.
func (m machine) again(t *testing.T, at string) machine {
	t.Helper()
	one := machine{home: m.home, team: open(t, at), founded: m.founded}
	_, err := one.team.Enter(ctx, one.home, m.founded)
	require.NoError(t, err)
	one.Place = one.team.Place(one.home)
	return one
}

func TestLedger(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	m := begun(t, at)
	ledgertest.Run(t, func(t *testing.T) ledger.Ledger { return m.again(t, at).team })
}

// Secrets are for those of the team who may open accounts: who joins can open all of them, who leaves none that is
// written from then on, and who may only look none at all.
func TestPeople(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	first := begun(t, at)
	require.NoError(t, first.Vault.Set(map[string]secret.Text{"sites/a/admin.password": secret.Of("one"),
		"sites/a/b/admin.password": secret.Of("two")}))
	before, err := first.Vault.Seal("sites/a/")
	require.NoError(t, err)
	second := first.member(t, at, "steward", trust.Operate)
	third := first.member(t, at, "office", trust.Look)
	got, err := second.Vault.Get("sites/a/admin.password")
	require.NoError(t, err)
	assert.Equal(t, "one", got.Reveal())
	names, err := second.Vault.Names("sites/a/")
	require.NoError(t, err)
	assert.Equal(t, []string{"sites/a/admin.password"}, names)
	_, err = third.Vault.Get("sites/a/admin.password")
	assert.Equal(t, fault.MayOnlyLook, fault.CodeOf(err), "%v", err)
	for n, m := range []trust.Member{{Name: "steward", Sign: []byte("x"), Seal: "y", May: trust.Operate}, {}} {
		if n == 1 {
			m, err = team.Me(second.home)
			require.NoError(t, err)
			m.Name, m.May = "another", trust.Operate
		}
		assert.ErrorIs(t, first.team.Join(ctx, m, first.Vault), trust.ErrKnown)
	}
	opened, err := second.Vault.Unseal(before)
	require.NoError(t, err)
	assert.Equal(t, "one", opened["admin.password"].Reveal(), "a backup of one is the other's too")

	require.NoError(t, second.Vault.Set(map[string]secret.Text{"sites/a/admin.password": secret.Of("three")}))
	sum, err := first.Vault.Key([]byte("x"))
	require.NoError(t, err)
	other, err := second.Vault.Key([]byte("x"))
	require.NoError(t, err)
	assert.Equal(t, sum, other)
	joins := trust.Member{Name: "x", Sign: make([]byte, 32), Seal: "x", May: trust.Look}
	assert.Equal(t, fault.MayOnlyLook, fault.CodeOf(second.team.Join(ctx, joins, second.Vault)), "an admin adds people")

	require.NoError(t, first.team.Leave(ctx, "steward", first.Vault))
	_, err = second.Vault.Get("sites/a/admin.password")
	assert.Error(t, err)
	got, err = first.Vault.Get("sites/a/admin.password")
	require.NoError(t, err)
	assert.Equal(t, "three", got.Reveal())
	assert.ErrorIs(t, first.team.Leave(ctx, "steward", first.Vault), trust.ErrNobody)
	assert.ErrorIs(t, first.team.Leave(ctx, "wharfinger", first.Vault), trust.ErrLast)
	_, err = first.Vault.Get("sites/a/admin.password")
	assert.NoError(t, err, "who cannot leave still opens")
	opened, err = first.Vault.Unseal(before)
	require.NoError(t, err)
	assert.Equal(t, "one", opened["admin.password"].Reveal(), "what was sealed in an epoch before")
}

// Passwords that are kept while somebody joins are for them too.
func TestJoiningMeanwhile(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	first := begun(t, at)
	done := make(chan error, 1)
	go func() {
		var err error
		for n := 0; n < 60 && err == nil; n++ {
			err = first.Vault.Set(map[string]secret.Text{fmt.Sprintf("sites/%d/x", n): secret.Of(fmt.Sprint(n))})
		}
		done <- err
	}()
	time.Sleep(30 * time.Millisecond)
	second := first.member(t, at, "steward", trust.Operate)
	require.NoError(t, <-done)
	all, err := second.Vault.All()
	require.NoError(t, err)
	assert.Len(t, all, 61)
}

// Everything is brought there and back, and comes back as it was; nothing of it lies open in
// the database.
func TestThereAndBack(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	folder := t.TempDir()
	h := home.At(folder)
	file, err := ledger.Open(ctx, h.Ledger())
	require.NoError(t, err)
	defer file.Close()
	own := team.Place{Ledger: file, Home: h, Vault: vault.At(h.Vault(), h.VaultKey()), Journals: job.Files(h.Journals())}
	require.NoError(t, own.Ledger.PutSite(ctx, ledger.Site{Address: "lockside.localhost/forum", Title: "Lockside Talk",
		Bytes: 5, UpdatedAt: time.Now()}))
	require.NoError(t, own.Ledger.PutJob(ctx, ledger.Job{ID: "20261123-080000-abcd", Started: time.Now()}))
	require.NoError(t, own.Ledger.PutRedirect(ctx, ledger.Redirect{Address: "lockside.localhost/old"}))
	require.NoError(t, own.Home.PutAccountFile("quillmere", []byte("account: quillmere\n")))
	require.NoError(t, own.Vault.Set(map[string]secret.Text{"sites/x": secret.Of("a secret word")}))
	log, err := own.Journals.New("20261123-080000-abcd")
	require.NoError(t, err)
	require.NoError(t, log.Append([]byte("{\"journal\":1}\n")))
	_, err = own.Read(ctx)
	assert.ErrorContains(t, err, "a job is running")
	require.NoError(t, log.Close())
	b, err := own.Read(ctx)
	require.NoError(t, err)
	checksums, err := own.Vault.ForTeam()
	require.NoError(t, err)
	sum, err := own.Vault.Key([]byte("x"))
	require.NoError(t, err)

	l := open(t, at)
	_, err = l.Begin(ctx, h, "wharfinger", b, checksums)
	require.NoError(t, err)
	_, err = l.Begin(ctx, h, "steward", b, checksums)
	assert.ErrorContains(t, err, "somebody else began")
	there := l.Place(h)
	brought, err := there.Read(ctx)
	require.NoError(t, err)
	require.NoError(t, b.Compare(brought))
	assert.Equal(t, b.Sites[0].Title, brought.Sites[0].Title)
	assert.Equal(t, b.Measures, brought.Measures)
	assert.Equal(t, b.Journals, brought.Journals)
	assert.Equal(t, b.Accounts, brought.Accounts)
	same, err := there.Vault.Key([]byte("x"))
	require.NoError(t, err)
	assert.Equal(t, sum, same, "backups that were made before stay known")
	var open int
	require.NoError(
		t,
		connected(t, at).QueryRow(ctx, "SELECT count(*) FROM tivset.vault WHERE sealed LIKE '%secret word%'").
			Scan(&open),
	)
	assert.Zero(t, open)

	back := home.At(filepath.Join(folder, "back"))
	file, err = ledger.Open(ctx, back.Ledger())
	require.NoError(t, err)
	defer file.Close()
	here := team.Place{Ledger: file, Home: back, Vault: vault.At(back.Vault(), back.VaultKey()),
		Journals: job.Files(back.Journals())}
	require.NoError(t, here.Write(ctx, brought))
	came, err := here.Read(ctx)
	require.NoError(t, err)
	require.NoError(t, brought.Compare(came))
	same, err = here.Vault.Key([]byte("x"))
	require.NoError(t, err)
	assert.Equal(t, sum, same)
	require.NoError(t, l.MovedAway(ctx))
	_, err = l.Found(ctx)
	assert.ErrorContains(t, err, "was moved away")
}

// Several teams share a database by name; one of a newer format is left alone; of a database
// that cannot be written it is said why.
func TestDatabasesThatWillNotDo(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	first := begun(t, at)
	other := open(t, at+"&ledger=another")
	found, err := other.Found(ctx)
	require.NoError(t, err)
	assert.False(t, found)
	_, err = other.Begin(ctx, home.At(t.TempDir()), "steward", &team.Belongings{}, secret.Of("00"))
	require.NoError(t, err)
	require.NoError(t, other.PutSite(ctx, ledger.Site{Address: "b.localhost"}))
	all, err := first.team.Addresses(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)

	c := connected(t, at)
	_, err = c.Exec(ctx, "UPDATE another.about SET format = 9")
	require.NoError(t, err)
	_, err = other.Found(ctx)
	assert.ErrorContains(t, err, "format 9")

	_, err = c.Exec(ctx, "ALTER DATABASE records SET default_transaction_read_only = on")
	require.NoError(t, err)
	err = first.again(t, at).team.PutSite(ctx, ledger.Site{Address: "c.localhost"})
	assert.ErrorContains(t, err, "can only be read")

	for wrong, words := range map[string]string{"postgres://x@127.0.0.1:1/x": "does not answer",
		at + "&ledger=Not-This": "cannot be called so", "mysql://x": "no address"} {
		_, err := team.Open(ctx, wrong, time.Now)
		assert.ErrorContains(t, err, words)
		assert.NotContains(t, fmt.Sprint(err), "chief's", "no password is said")
	}
	bad, err := url.Parse(at)
	require.NoError(t, err)
	bad.User = url.UserPassword("chief", "a wrong one")
	_, err = team.Open(ctx, bad.String(), time.Now)
	assert.ErrorContains(t, err, "refused the user or the password")
	assert.NotContains(t, fmt.Sprint(err), "a wrong one")
}

// The tables of a release whose records nobody signed are left alone.
func TestTablesOfAnOlderRelease(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	begun(t, at)
	_, err := connected(t, at).Exec(ctx, "UPDATE tivset.about SET format = 3")
	require.NoError(t, err)
	_, err = open(t, at).Found(ctx)
	assert.ErrorContains(t, err, "nobody signed")
}

// A machine that stands still while it has the log's lock, such as a laptop that is closed at that moment, holds up the
// others for seconds, and goes on itself when it is back.
func TestAMachineThatStandsStill(t *testing.T) {
	servers.Slow(t)
	at := address(t)
	first := begun(t, at)
	second := first.member(t, at, "steward", trust.Operate)
	has, done, tries := make(chan struct{}), make(chan error, 1), 0
	go func() {
		done <- first.team.Change(ctx, func(_ context.Context, _ *dbsql.Tx, w ledger.Word) error {
			if tries++; tries == 1 {
				close(has)
				time.Sleep(15 * time.Second)
			}
			return w.Note(trust.What{Kind: trust.OfSeen, Key: "a.localhost"})
		})
	}()
	<-has
	began := time.Now()
	require.NoError(t, second.Ledger.PutSite(ctx, ledger.Site{Address: "a.localhost"}))
	assert.Less(t, time.Since(began), 13*time.Second)
	require.NoError(t, <-done)
	all, err := second.team.History(ctx, team.HistoryOf{Member: "wharfinger", Most: 1})
	require.NoError(t, err)
	assert.Equal(t, trust.OfSeen, all[0].Kind)
}
