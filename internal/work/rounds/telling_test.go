package rounds_test

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer/care"
	"tivset/internal/records/home"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/rounds"
)

// Whoever looks after sites of others reads of their troubles, with what to type; an owner reads what was done, in
// words that need no program, and of no trouble.
func TestOwnersReadOfWhatIsTheirs(t *testing.T) {
	o := owners(t)
	for _, r := range [][3]string{{"inkreach", "lockside.localhost/journal", "1.3.2"},
		{"towline", "lockside.localhost/help", "2.0.1"}} {
		_, err := o.Install(sitetest.Older(r[0], r[1], r[2]))
		require.NoError(t, err)
	}
	usual := care.Usual
	usual.Notify = "steward@brook.localhost, trouble"
	require.NoError(t, o.Book.Home.KeepDefaultCare(usual))
	require.NoError(t, o.Book.Home.KeepOperator("the steward"))
	o.entrust("journal", map[string]string{"accepts": "breaking", "after": "0d", "notify": "everything"})
	o.entrust("help", map[string]string{"accepts": "breaking", "after": "0d", "rehearse": "from-fixes",
		"notify": "changes"})
	o.begin()
	_, lines := o.round(rounds.Request{})
	assert.ElementsMatch(t, []string{"updated journal", "trouble help", "backed up help"}, lines)
	require.Len(t, o.mails, 2)
	theirs, mine := o.mails[0], o.mails[1]
	if mine.To != "steward@brook.localhost" {
		theirs, mine = mine, theirs
	}
	assert.Equal(t, "steward@brook.localhost", mine.To)
	assert.Contains(t, mine.Text, "The update to 2.1.0 was not made")
	assert.NotContains(t, mine.Text, "from 1.3.2 to 1.4.0")
	assert.Equal(t, "wharfinger@lockside.localhost", theirs.To)
	assert.Contains(t, theirs.Text, "Your site was updated from 1.3.2 to 1.4.0. It was checked afterwards, and works.")
	assert.Contains(t, theirs.Text, "There is nothing that you need to do. Questions: the steward, "+
		"steward@brook.localhost")
	for _, not := range []string{"tivset", "2.1.0", "NEEDS YOU", "maintenance run"} {
		assert.NotContains(t, theirs.Text, not)
	}
}

// A program hears of troubles once, in the same event again until it has taken it; a mail that the server does not
// take waits as well, and neither is in the other's way.
func TestProgramsAreTold(t *testing.T) {
	o := owners(t)
	done, err := o.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	o.entrust("journal", map[string]string{"backups": "none"})
	require.NoError(t, o.Book.Home.KeepNotified([]home.Notified{{To: "exec:/usr/bin/page-me", Of: "trouble"},
		{To: "https://monitor.localhost/told", Of: "everything", Key: "whsec_x"}}))
	away := true
	got := map[string][]string{}
	ids := map[string]bool{}
	o.Desk.Notify = func(_ context.Context, to, id string, event []byte) error {
		if away {
			return errors.New("no answer")
		}
		var e struct {
			ID    string
			By    string
			Lines []struct{ Address, What, Detail, Remedy string }
		}
		require.NoError(t, json.Unmarshal(event, &e))
		assert.Equal(t, id, e.ID)
		assert.False(t, ids[to+id], "twice")
		ids[to+id] = true
		for _, l := range e.Lines {
			got[to] = append(got[to], l.What)
		}
		return nil
	}
	o.down = true
	require.NoError(t, os.WriteFile(filepath.Join(o.Root, done.Site.Folder, "style.css"), []byte("body {}"), 0o644))
	o.begin()
	came, _ := o.round(rounds.Request{})
	assert.Len(t, came.Unsent, 3)
	assert.Empty(t, got)
	away = false
	o.later(2 * time.Hour)
	came, lines := o.round(rounds.Request{})
	assert.Empty(t, lines)
	assert.Len(t, came.Unsent, 1, "the mail server is still away")
	assert.Equal(t, map[string][]string{"exec:/usr/bin/page-me": {"trouble"},
		"https://monitor.localhost/told": {"trouble"}}, got)
	assert.Empty(t, o.mails)
	o.down = false
	o.later(2 * time.Hour)
	came, _ = o.round(rounds.Request{})
	assert.Empty(t, came.Unsent)
	assert.Len(t, o.mails, 1)
	assert.Len(t, got["exec:/usr/bin/page-me"], 1)
}
