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
		{care.Usual, []string{"takes fixes by itself once they are 3 days old, from 2 to 5 o'clock",
			"makes a backup every day and keeps those of 7 days, 4 weeks and 6 months", "tells w@a.localhost of trouble"}},
		{care.Care{Takes: "nothing", Waits: "3d", Hours: "02-05", Tells: "nobody"},
			[]string{"takes no release by itself", "makes no backups by itself", "tells nobody"}},
		{care.Care{Takes: "breaking", Waits: "0d", Hours: "22-00", Rehearses: "features", Backups: "hourly,1d",
			Tells: "q@b.localhost, changes"},
			[]string{"takes every release by itself as soon as they are out, from 22 to 0 o'clock, features and farther ones " +
				"rehearsed on a copy first", "makes a backup every hour and keeps those of 1 day",
				"tells q@b.localhost of changes and of trouble"}},
		{care.Care{Takes: "features", Waits: "1d", Hours: "any", Rehearses: "fixes", Backups: "weekly, 2d, 3m",
			Tells: "everything"},
			[]string{"takes fixes and features by itself once they are a day old, each rehearsed on a copy first",
				"makes a backup every week and keeps those of 2 days and 3 months", "tells w@a.localhost of everything"}},
	} {
		assert.Equal(t, strings.Join(c.sentence, "; "), c.care.Sentence(true, "w@a.localhost"))
	}
	assert.NotContains(t, care.Usual.Sentence(false, "w@a.localhost"), "tells", "where no mail can be sent")
	named := care.Care{Takes: "nothing", Tells: "q@b.localhost, trouble"}
	assert.Contains(t, named.Sentence(true, ""), "tells q@b.localhost of trouble", "an admin without an address")
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
		care.Care{Rehearses: "nothing"}.RehearsesLevel("breaking"))
	for backups, fine := range map[string]bool{"daily, 7d,4w,6m": true, "daily,7d": true, "none": true, "daily": false,
		"daily, 0d": false, "daily, 4w": false, "yearly, 7d": false, "daily, 7d,7d": false} {
		assert.Equal(t, fine, care.Care{Backups: backups}.Valid(), backups)
	}
	assert.True(t, care.Care{}.Valid())
	assert.Equal(t, care.Usual, care.Of(care.Usual.Answers()))
	assert.Equal(t, "none", care.Care{Takes: "fixes"}.Answers()["care.backups"], "nobody entrusted an older site's")
}

// What is taken: by level, by how long it has been out, at its hours.
func TestDecisions(t *testing.T) {
	takes := func(what, level string) bool { return care.Care{Takes: what}.TakesLevel(level) }
	assert.True(t, takes("fixes", "fixes") && takes("features", "fixes") && takes("breaking", "breaking"))
	assert.False(t, takes("nothing", "fixes") || takes("fixes", "features") || takes("features", "breaking") ||
		takes("", "fixes"))
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	c := care.Care{Waits: "3d"}
	assert.True(t, c.Waited("2026-11-23", now) && c.Waited("", now))
	assert.False(t, c.Waited("2026-11-24", now))
	at := func(hours string, hour int) bool {
		return care.Care{Hours: hours}.Now(time.Date(2026, 11, 26, hour, 30, 0, 0, time.UTC))
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
			if (care.Care{Hours: "02-05"}).Now(at) {
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
		c := care.Care{Tells: tells}
		assert.Equal(t, want, [2]string{c.Told(care.Trouble, "w@a"), c.Told(care.Change, "w@a")}, tells)
	}
	for text, fits := range map[string]bool{"trouble": true, "a@b.c, changes": true, "nobody": true, "a@b.c": false,
		"a@b.c, nothing": false, "a b@c, trouble": false} {
		assert.Equal(t, fits, regexp.MustCompile("^(?:"+care.Forms["tells"].Pattern+")$").MatchString(text), text)
	}
}

// A record of the first form is read: what it took by itself it takes still, at once, and
// the same mails are sent.
func TestReadsTheFirstForm(t *testing.T) {
	for text, want := range map[string]care.Care{
		`{"updates": "fixes", "backup": "before", "extensions": "off", "put_back": "on", "mails": "failures"}`: {
			Takes: "fixes", Waits: "0d", Hours: "02-05", Tells: "trouble"},
		`{"updates": "all", "mails": "all"}`: {Takes: "breaking", Waits: "0d", Hours: "02-05", Tells: "changes"},
		`{"updates": "off", "mails": "off"}`: {Takes: "nothing", Waits: "0d", Hours: "02-05", Tells: "nobody"},
		`{"takes": "features", "waits": "7d", "hours": "02-05", "tells": "nobody"}`: {Takes: "features", Waits: "7d",
			Hours: "02-05", Tells: "nobody"},
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
