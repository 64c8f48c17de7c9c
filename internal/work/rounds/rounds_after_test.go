package rounds_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/notify/mail"
	"tivset/internal/records/home"
	"tivset/internal/records/job"
	"tivset/internal/records/ledger"
	"tivset/internal/screen"
	"tivset/internal/sites"
	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/backup"
	"tivset/internal/work/rounds"
)

// owned is a world with a clock that is set, and with the mails that were sent.
type owned struct {
	*sitetest.World
	at    time.Time
	one   sync.Mutex
	mails []mail.Message
	down  bool // the mail server
}

// owners begins at half past two at night, the hour of the usual care, two days after
// whatever is installed now.
func owners(t *testing.T) *owned {
	return ownerOf(sitetest.Demo(t))
}

func ownerOf(w *sitetest.World) *owned {
	o := &owned{World: w}
	now := time.Now()
	o.at = time.Date(now.Year(), now.Month(), now.Day()+2, 2, 30, 0, 0, time.Local)
	o.Desk.SendMail = func(_ context.Context, _ mail.Server, m mail.Message) error {
		if o.down {
			return errors.New("no answer")
		}
		m.Text = screen.Spelled(m.Text)
		o.one.Lock()
		defer o.one.Unlock()
		o.mails = append(o.mails, m)
		return nil
	}
	return o
}

// begin has the clock stand from now on.
func (o *owned) begin() {
	clock := func() time.Time {
		o.one.Lock()
		defer o.one.Unlock()
		return o.at
	}
	o.Now, o.Desk.Now, o.Book.Now, o.Examiner.Now = clock, clock, clock, clock
}

func (o *owned) later(d time.Duration) {
	o.one.Lock()
	defer o.one.Unlock()
	o.at = o.at.Add(d)
}

// round makes a round and gives its lines, each as “what address”.
func (o *owned) round(r rounds.Request) (*rounds.Round, []string) {
	o.T.Helper()
	came, err := rounds.Go(context.Background(), o.Desk, r, nil)
	require.NoError(o.T, err)
	lines := []string{}
	for _, l := range came.Lines {
		lines = append(lines, l.What+" "+l.Site.Address[strings.Index(l.Site.Address, "/")+1:])
	}
	return came, lines
}

func (o *owned) entrust(site string, decided map[string]string) {
	o.T.Helper()
	_, err := o.Sites.Entrust(context.Background(), []string{site}, sites.Entrusting{Decided: decided})
	require.NoError(o.T, err)
}

// A night: a fix is taken, a broken release is refused by its rehearsal and noted, a backup
// and checks are made, and one mail tells each person of it. The next rounds are silent.
func TestANight(t *testing.T) {
	o := owners(t)
	for _, r := range [][3]string{{"inkreach", "lockside.localhost/journal", "1.3.2"},
		{"towline", "lockside.localhost/help", "2.0.1"}, {"lampshelf", "lockside.localhost/pictures", "1.8.2"}} {
		_, err := o.Install(sitetest.Older(r[0], r[1], r[2]))
		require.NoError(t, err)
	}
	o.entrust("journal", map[string]string{"accepts": "breaking", "after": "0d",
		"notify": "q@quillmere.localhost, changes"})
	o.entrust("help", map[string]string{"accepts": "breaking", "after": "0d", "rehearse": "from-fixes"})
	o.begin()
	_, due := o.round(rounds.Request{Dry: true})
	assert.ElementsMatch(t, []string{"due help", "due help", "due help", "due journal", "due journal", "due journal",
		"due pictures", "due pictures"}, due)

	came, lines := o.round(rounds.Request{})
	assert.ElementsMatch(t, []string{"trouble help", "backed up help", "updated journal", "backed up pictures",
		"checked pictures"}, lines, "an update makes a backup and a check itself")
	assert.True(t, came.Failed())
	assert.Equal(t, []string{"1.4.0", "2.0.1"}, []string{o.find("journal").Release, o.find("help").Release})
	require.NotNil(t, o.find("help").Tried)
	require.Len(t, o.mails, 2)
	told := o.mails[0].To + o.mails[0].Subject + o.mails[0].Text + o.mails[1].To + o.mails[1].Subject + o.mails[1].Text
	for _, words := range []string{"q@quillmere.localhost", "was looked after", "Updated: from 1.3.2 to 1.4.0",
		"wharfinger@lockside.localhost", "needs you", "THIS NEEDS YOU",
		"was not made, and 2.0.1 stays; it failed in a rehearsal: "} {
		assert.Contains(t, told, words)
	}

	for range 3 {
		o.later(time.Hour)
		_, lines = o.round(rounds.Request{})
		assert.Empty(t, lines)
	}
	assert.Len(t, o.mails, 2)
	did, err := o.Book.Ledger.Rounds(context.Background())
	require.NoError(t, err)
	require.Len(t, did, 1)
	assert.True(t, did[0].At.Before(o.kept().At))
	assert.Len(t, did[0].Lines, 5)
	for _, address := range []string{"journal", "help", "pictures"} {
		sitetest.Examined(t, o.World, o.find(address).Address)
	}
}

func (o *owned) find(word string) ledger.Site {
	o.T.Helper()
	x, err := o.Book.Find(context.Background(), word)
	require.NoError(o.T, err)
	return x
}

// Hours: what is due waits for them; a machine that was off for days does backups and
// checks at once, but no update.
func TestHours(t *testing.T) {
	o := owners(t)
	_, err := o.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	o.entrust("journal", map[string]string{"accepts": "breaking", "after": "0d", "rehearse": "nothing"})
	o.at = o.at.Add(10 * time.Hour) // after noon
	o.begin()
	_, err = backup.Make(ctx, o.Desk, backup.Request{Site: "journal"})
	require.NoError(t, err)
	x := o.find("journal")
	x.CheckedAt = &o.at
	require.NoError(t, o.Book.Ledger.PutSite(ctx, x))
	o.later(26 * time.Hour)
	_, lines := o.round(rounds.Request{})
	assert.Empty(t, lines, "it is not the hour")
	o.later(7 * 24 * time.Hour)
	_, lines = o.round(rounds.Request{})
	assert.Equal(t, []string{"backed up journal", "trouble journal"}, lines)
	assert.Contains(t, o.mails[0].Text, "Updates: 1.4.0 of", "that it is overdue is told")
	_, lines = o.round(rounds.Request{Now: true})
	assert.Equal(t, []string{"updated journal"}, lines)
}

// Another machine has the same account: its backup counts, and a job of its own is waited
// for without a word to anybody.
func TestTwoMachines(t *testing.T) {
	o := owners(t)
	_, err := o.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	o.begin()
	_, err = backup.Make(ctx, o.Desk, backup.Request{Site: "journal"})
	require.NoError(t, err)
	x := o.find("journal")
	x.LastBackupAt, x.CheckedAt = nil, &o.at // as the other machine has it
	require.NoError(t, o.Book.Ledger.PutSite(ctx, x))
	_, lines := o.round(rounds.Request{})
	assert.Empty(t, lines)
	assert.NotNil(t, o.find("journal").LastBackupAt)

	o.later(24 * time.Hour)
	held, goOn := make(chan struct{}), make(chan struct{})
	var once sync.Once
	other := *o.Desk
	other.Progress = func(e job.Event) {
		if strings.HasPrefix(e.Title, "Back") {
			once.Do(func() {
				close(held)
				<-goOn
			})
		}
	}
	ended := make(chan error, 1)
	go func() {
		_, err := backup.Make(ctx, &other, backup.Request{Site: "journal"})
		ended <- err
	}()
	<-held
	came, lines := o.round(rounds.Request{})
	close(goOn)
	require.NoError(t, <-ended)
	assert.Contains(t, lines, "waits journal")
	assert.False(t, came.Failed(), lines)
	assert.Empty(t, o.mails)

	done, err := o.Home.Alone("rounds")
	require.NoError(t, err)
	came, _ = o.round(rounds.Request{})
	assert.True(t, came.Another, "of two rounds on one machine the second does nothing")
	done()
}

// A trouble that lasts is told once a week, and again when it comes back; a mail that could
// not be sent is sent the next time.
func TestTroubleIsToldOnce(t *testing.T) {
	o := owners(t)
	done, err := o.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	o.entrust("journal", map[string]string{"backups": "none"})
	o.begin()
	style := filepath.Join(o.Root, done.Site.Folder, "style.css")
	own, err := os.ReadFile(style)
	require.NoError(t, err)
	spoil := func(text []byte) { require.NoError(t, os.WriteFile(style, text, 0o644)) }
	spoil([]byte("body {}"))
	o.down = true
	came, lines := o.round(rounds.Request{})
	assert.Equal(t, []string{"trouble journal"}, lines)
	assert.Len(t, came.Unsent, 1)
	o.down = false
	for day, mails := range []int{1, 1, 1, 1, 1, 1, 2, 2, 2} {
		o.later(24 * time.Hour)
		_, lines = o.round(rounds.Request{})
		assert.Equal(t, []string{"trouble journal"}, lines)
		assert.Len(t, o.mails, mails, day)
	}
	assert.Contains(t, o.mails[0].Text, "tivset check")
	spoil(own)
	o.later(24 * time.Hour)
	_, lines = o.round(rounds.Request{})
	assert.Equal(t, []string{"checked journal"}, lines)
	spoil([]byte("body { color: red }"))
	o.later(24 * time.Hour)
	o.round(rounds.Request{})
	assert.Len(t, o.mails, 3)
}

// One account that is down does not keep the others from anything, and a round that is
// interrupted says so.
func TestAServerThatIsDown(t *testing.T) {
	o := owners(t)
	_, err := o.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	o.begin()
	o.Trip.FailOn("open database")
	came, lines := o.round(rounds.Request{})
	o.Trip.FailOn()
	assert.True(t, came.Failed(), lines)
	require.Len(t, o.mails, 1)
	within, stop := context.WithCancel(ctx)
	stop()
	o.later(48 * time.Hour)
	_, err = rounds.Go(within, o.Desk, rounds.Request{}, nil)
	assert.ErrorIs(t, err, context.Canceled)
}

// What fails at one site without anybody's fault keeps neither the others from what is due, nor anybody from
// hearing what was done.
func TestOneSiteFails(t *testing.T) {
	o := owners(t)
	for _, name := range []string{"a", "b", "c"} {
		_, err := o.Install(sitetest.Request("inkreach", "lockside.localhost/"+name))
		require.NoError(t, err)
		o.entrust(name, map[string]string{"notify": "q@quillmere.localhost, everything"})
	}
	o.begin()
	_, err := o.Book.Ledger.Tell(ctx, ledger.Telling{Address: o.find("b").Address, Trouble: "backup", At: o.Now()}, 0)
	require.NoError(t, err)
	o.Trip.FailOn("ledger, untell b")
	came, lines := o.round(rounds.Request{})
	o.Trip.FailOn()
	assert.True(t, came.Failed())
	for _, line := range []string{"backed up a", "trouble b", "backed up c"} {
		assert.Contains(t, lines, line)
	}
	require.Len(t, o.mails, 1)
	assert.Contains(t, o.mails[0].Text, sitetest.ErrTrip.Error())
	assert.Contains(t, o.mails[0].Text, "THIS WAS DONE")
	did, err := o.Book.Ledger.Rounds(ctx)
	require.NoError(t, err)
	require.Len(t, did, 1, "and it is on record")
}

// A round over many sites at which nothing is due asks no account anything.
func TestManySites(t *testing.T) {
	o := owners(t)
	_, err := o.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	o.begin()
	o.round(rounds.Request{})
	x := o.find("journal")
	for n := range 199 {
		x.Address = fmt.Sprintf("lockside.localhost/s%d", n)
		require.NoError(t, o.Book.Ledger.PutSite(ctx, x))
	}
	o.Trip.Arm(0, 0)
	begun := time.Now()
	came, lines := o.round(rounds.Request{})
	took := time.Since(begun)
	t.Logf("200 sites in %v", took)
	assert.Less(t, took, 3*time.Second)
	assert.Equal(t, 200, came.Sites)
	assert.Empty(t, lines)
	assert.Zero(t, o.Trip.Reached())
	assert.NotEqual(t, home.Rounds{}, o.kept())
}

func (o *owned) kept() home.Rounds {
	o.T.Helper()
	r, err := o.Home.Rounds()
	require.NoError(o.T, err)
	return r
}

// A release that gets no more fixes is told of once a week, though nobody is mailed.
func TestAReleaseWithoutFixes(t *testing.T) {
	o := owners(t)
	_, err := o.Install(sitetest.Older("pennywharf", "lockside.localhost/shop", "3.1.4"))
	require.NoError(t, err)
	o.entrust("shop", map[string]string{"accepts": "nothing", "notify": "nobody", "backups": "none"})
	o.at = o.at.AddDate(3, 0, 0)
	o.begin()
	told := 0
	for range 9 {
		came, _ := o.round(rounds.Request{Now: true})
		for _, l := range came.Lines {
			if strings.Contains(l.Detail, "has got no fixes since") {
				told++
			}
		}
		o.later(24 * time.Hour)
	}
	assert.Equal(t, 2, told)
}

// The owner decides otherwise while an update is rehearsed: it is not made.
func TestTheOwnerDecidesOtherwiseMeanwhile(t *testing.T) {
	o := owners(t)
	_, err := o.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	o.entrust("journal", map[string]string{"accepts": "breaking", "after": "0d", "rehearse": "from-fixes"})
	o.begin()
	var once sync.Once
	o.Desk.Progress = func(job.Event) { once.Do(func() { o.entrust("journal", map[string]string{"accepts": "nothing"}) }) }
	_, lines := o.round(rounds.Request{})
	assert.NotContains(t, lines, "updated journal")
	assert.Equal(t, "1.3.2", o.find("journal").Release)
}

// Two machines of a team make rounds at the same time: what is due is done once, and each
// trouble is told once, by one of them; also when it lasts.
func TestTwoMachinesMakeRounds(t *testing.T) {
	servers.Slow(t)
	at := sitetest.Records(t)
	w := sitetest.Demo(t)
	sitetest.OnTeam(t, w, at)
	machines := []*owned{ownerOf(w), ownerOf(sitetest.Another(t, w, at))}
	o := machines[0]
	for n, kit := range []string{"inkreach", "willowbench", "inkreach", "slateroom"} {
		_, err := o.Install(sitetest.Request(kit, fmt.Sprintf("lockside.localhost/s%d", n)))
		require.NoError(t, err)
	}
	_, err := o.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
	require.NoError(t, err)
	o.entrust("journal", map[string]string{"accepts": "breaking", "after": "0d", "notify": "nobody"})
	broken := o.find("s1")
	o.Query(broken, "DROP TABLE {tables}threads")
	for _, m := range machines {
		m.begin()
	}
	both := func() (lines []string, mails int) {
		var wait sync.WaitGroup
		var one sync.Mutex
		for _, m := range machines {
			wait.Go(func() {
				_, its := m.round(rounds.Request{Now: true})
				one.Lock()
				defer one.Unlock()
				lines = append(lines, its...)
				mails += len(m.mails)
				m.mails = nil
			})
		}
		wait.Wait()
		return lines, mails
	}
	lines, mails := both()
	for _, name := range []string{"s0", "s2", "s3"} {
		for _, what := range []string{"backed up ", "checked "} {
			assert.Equal(t, 1, count(lines, what+name), "%s%s: %v", what, name, lines)
		}
	}
	assert.Equal(t, 1, count(lines, "updated journal"), "%v", lines)
	assert.NotZero(t, count(lines, "trouble s1"))
	assert.Equal(t, 1, mails)
	for range 3 {
		for _, m := range machines {
			m.later(25 * time.Hour)
		}
		_, mails = both()
		assert.Zero(t, mails, "it is known")
	}
	for _, m := range machines {
		m.later(6 * 24 * time.Hour)
	}
	_, mails = both()
	assert.Equal(t, 1, mails, "it lasts")
	did, err := machines[1].Book.Ledger.Rounds(context.Background())
	require.NoError(t, err)
	assert.NotEmpty(t, did)
}

func count(lines []string, one string) (n int) {
	for _, l := range lines {
		if l == one {
			n++
		}
	}
	return n
}

// A site that is gone is told of every night, with what to do, until it is back or forgotten; nothing else is tried.
func TestASiteThatIsGone(t *testing.T) {
	o := owners(t)
	done, err := o.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	o.begin()
	folder := filepath.Join(o.Root, done.Site.Folder)
	require.NoError(t, os.Rename(folder, folder+"-away"))
	for range 3 {
		o.later(24 * time.Hour)
		came, lines := o.round(rounds.Request{})
		assert.Contains(t, lines, "trouble journal")
		last := came.Lines[len(came.Lines)-1]
		assert.Contains(t, last.Detail, "is gone")
		assert.NotContains(t, lines, "backed up journal")
	}
	require.NoError(t, os.Rename(folder+"-away", folder))
	o.later(24 * time.Hour)
	_, lines := o.round(rounds.Request{})
	assert.Contains(t, lines, "checked journal")
	o.later(24 * time.Hour)
	_, lines = o.round(rounds.Request{})
	assert.Contains(t, lines, "backed up journal", "it is looked after again")
}

// Since when a round is under way is known while it is, and of one that was ended by force nothing is said.
func TestARoundUnderWay(t *testing.T) {
	o := owners(t)
	_, err := o.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	o.begin()
	since := func() time.Time {
		t.Helper()
		began, err := o.Book.Home.RoundUnderWay()
		require.NoError(t, err)
		return began
	}
	assert.Zero(t, since())
	seen := 0
	_, err = rounds.Go(context.Background(), o.Desk, rounds.Request{}, func(rounds.Line) {
		seen++
		assert.True(t, since().Equal(o.at.UTC()), "%s", since())
	})
	require.NoError(t, err)
	assert.Positive(t, seen)
	assert.Zero(t, since(), "it is over")
	left := o.kept()
	left.Begun = o.at
	require.NoError(t, o.Book.Home.KeepRounds(left))
	assert.Zero(t, since(), "nobody holds it")
	_, err = rounds.Go(context.Background(), o.Desk, rounds.Request{}, nil)
	require.NoError(t, err)
	assert.Zero(t, o.kept().Begun, "it is not kept of one that was ended by force")
}
