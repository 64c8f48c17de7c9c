package care_test

import (
	"encoding/json"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer/care"
)

// The decisions are said as one sentence.
func TestSentence(t *testing.T) {
	for _, c := range []struct {
		care     care.Care
		sentence []string
	}{
		{care.Usual, []string{"installs fixes once they are 3 days old, between 2 and 5 o'clock",
			"makes a backup every day and keeps those of 7 days, 4 weeks and 6 months", "notifies w@a.localhost of trouble"}},
		{care.Care{Accepts: "nothing", After: "3d", Between: "02-05", Notify: "nobody"},
			[]string{"installs no release by itself", "makes no backups by itself", "notifies nobody"}},
		{care.Care{Accepts: "breaking", After: "0d", Between: "22-00", Rehearse: "from-features", Backups: "hourly,1d",
			Notify: "q@b.localhost, changes"},
			[]string{"installs every release as soon as it is out, between 22 and 0 o'clock, features and breaking releases " +
				"rehearsed on a copy first", "makes a backup every hour and keeps those of 1 day",
				"notifies q@b.localhost of changes and of trouble"}},
		{care.Care{Accepts: "features", After: "1d", Between: "any", Rehearse: "from-fixes", Backups: "weekly, 2d, 3m",
			Notify: "everything"},
			[]string{"installs fixes and features once they are a day old, each rehearsed on a copy first",
				"makes a backup every week and keeps those of 2 days and 3 months", "notifies w@a.localhost of everything"}},
	} {
		assert.Equal(t, strings.Join(c.sentence, "; "), c.care.Sentence(true, "w@a.localhost"))
	}
	assert.NotContains(t, care.Usual.Sentence(false, "w@a.localhost"), "notifies", "where no mail can be sent")
	named := care.Care{Accepts: "nothing", Notify: "q@b.localhost, trouble"}
	assert.Contains(t, named.Sentence(true, ""), "notifies q@b.localhost of trouble", "an admin without an address")
}

// How often backups are made, which releases are rehearsed, and what is well-formed.
func TestBackupsAndRehearsals(t *testing.T) {
	for backups, want := range map[string]time.Duration{"daily, 7d,4w,6m": 24 * time.Hour, "hourly, 1d": time.Hour,
		"none": 0, "": 0} {
		often, _ := care.Care{Backups: backups}.Every()
		assert.Equal(t, want, often, backups)
	}
	_, kept := care.Care{Backups: "daily, 7d, 4w"}.Every()
	assert.Equal(t, "7d,4w", kept)
	assert.True(t, care.Usual.RehearsesLevel("features") && care.Usual.RehearsesLevel("breaking"))
	assert.False(t, care.Usual.RehearsesLevel("fixes") || care.Care{}.RehearsesLevel("breaking") ||
		care.Care{Rehearse: "nothing"}.RehearsesLevel("breaking"))
	for backups, fine := range map[string]bool{"daily, 7d,4w,6m": true, "daily,7d": true, "none": true, "daily": false,
		"daily, 0d": false, "daily, 4w": false, "yearly, 7d": false, "daily, 7d,7d": false} {
		assert.Equal(t, fine, care.Care{Backups: backups}.Valid(), backups)
	}
	assert.True(t, care.Care{}.Valid())
	assert.Equal(t, care.Usual, care.Of(care.Usual.Answers()))
	assert.Equal(t, "none", care.Care{Accepts: "fixes"}.Answers()["care.backups"], "nobody entrusted an older site's")
}

// What is taken: by level, by how long it has been out, at its hours.
func TestDecisions(t *testing.T) {
	takes := func(what, level string) bool { return care.Care{Accepts: what}.AcceptsLevel(level) }
	assert.True(t, takes("fixes", "fixes") && takes("features", "fixes") && takes("breaking", "breaking"))
	assert.False(t, takes("nothing", "fixes") || takes("fixes", "features") || takes("features", "breaking") ||
		takes("", "fixes"))
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	c := care.Care{After: "3d"}
	assert.True(t, c.Waited("2026-11-23", now) && c.Waited("", now))
	assert.False(t, c.Waited("2026-11-24", now))
	at := func(hours string, hour int) bool {
		return care.Care{Between: hours}.Now(time.Date(2026, 11, 26, hour, 30, 0, 0, time.UTC))
	}
	assert.True(t, at("02-05", 2) && at("02-05", 4) && at("22-04", 23) && at("22-04", 3) && at("any", 12) && at("", 12) &&
		at("07-07", 1))
	assert.False(t, at("02-05", 5) || at("02-05", 1) || at("22-04", 4) || at("22-04", 21))
}

// On the days on which clocks are set a night has its hours all the same.
func TestHoursOnDaysWithOtherHours(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Berlin")
	if err != nil {
		t.Skip("this machine knows no time zones")
	}
	for _, day := range []time.Time{time.Date(2026, 3, 29, 0, 0, 0, 0, zone), time.Date(2026, 10, 25, 0, 0, 0, 0, zone)} {
		hours := 0
		for at := day; at.Before(day.AddDate(0, 0, 1)); at = at.Add(30 * time.Minute) {
			if (care.Care{Between: "02-05"}).Now(at) {
				hours++
			}
		}
		assert.GreaterOrEqual(t, hours, 4, "%s", day)
	}
}

// Whom to tell, and of what.
func TestTold(t *testing.T) {
	for tells, want := range map[string][2]string{ // of trouble, of a change
		"trouble": {"w@a", ""}, "changes": {"w@a", "w@a"}, "everything": {"w@a", "w@a"}, "nobody": {"", ""},
		"q@b.c, trouble": {"q@b.c", ""}, "q@b.c,changes": {"q@b.c", "q@b.c"}, "nonsense": {"", ""},
	} {
		c := care.Care{Notify: tells}
		assert.Equal(t, want, [2]string{c.Told(care.Trouble, "w@a"), c.Told(care.Change, "w@a")}, tells)
	}
	for text, fits := range map[string]bool{"trouble": true, "a@b.c, changes": true, "nobody": true, "a@b.c": false,
		"a@b.c, nothing": false, "a b@c, trouble": false} {
		assert.Equal(t, fits, regexp.MustCompile("^(?:"+care.Forms["notify"].Pattern+")$").MatchString(text), text)
	}
}

// A record of the first form is read: what it took by itself it takes still, at once, and
// the same mails are sent.
func TestReadsTheFirstForm(t *testing.T) {
	for text, want := range map[string]care.Care{
		`{"updates": "fixes", "backup": "before", "extensions": "off", "put_back": "on", "mails": "failures"}`: {
			Accepts: "fixes", After: "0d", Between: "02-05", Notify: "trouble"},
		`{"updates": "all", "mails": "all"}`: {Accepts: "breaking", After: "0d", Between: "02-05", Notify: "changes"},
		`{"updates": "off", "mails": "off"}`: {Accepts: "nothing", After: "0d", Between: "02-05", Notify: "nobody"},
		`{"takes": "features", "waits": "7d", "hours": "02-05", "tells": "nobody"}`: {Accepts: "features", After: "7d",
			Between: "02-05", Notify: "nobody"},
		`{"takes": "fixes", "waits": "3d", "hours": "any", "rehearses": "features", "backups": "none", "tells": "changes"}`: {
			Accepts: "fixes", After: "3d", Between: "any", Rehearse: "from-features", Backups: "none", Notify: "changes"},
		`{"accepts": "fixes", "after": "1d", "between": "any", "rehearse": "nothing", "backups": "none", "notify": "nobody"}`: {
			Accepts: "fixes", After: "1d", Between: "any", Rehearse: "nothing", Backups: "none", Notify: "nobody"},
		`{}`: {},
	} {
		var c care.Care
		require.NoError(t, json.Unmarshal([]byte(text), &c))
		assert.Equal(t, want, c, text)
		again, err := json.Marshal(c)
		require.NoError(t, err)
		assert.NotContains(t, string(again), "updates")
	}
}
