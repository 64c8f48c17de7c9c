package care_test

import (
	"encoding/json"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer/care"
)

// The decisions are said as one sentence.
func TestSentence(t *testing.T) {
	for want, c := range map[string]care.Care{
		"takes fixes by itself once they are 3 days old, from 2 to 5 o'clock; tells " +
			"w@a.localhost of trouble": care.Usual,

		"takes no release by itself; tells nobody": {Takes: "nothing", Waits: "3d", Hours: "02-05", Tells: "nobody"},
		"takes every release by itself as soon as they are out, from 22 to 0 o'clock; tells " +
			"q@b.localhost of changes and of trouble": {Takes: "breaking", Waits: "0d", Hours: "22-00",
			Tells: "q@b.localhost, changes"},
		"takes fixes and features by itself once they are a day old; tells w@a.localhost of everything": {
			Takes: "features", Waits: "1d", Hours: "any", Tells: "everything"},
	} {
		assert.Equal(t, want, c.Sentence(true, "w@a.localhost"))
	}
	assert.NotContains(t, care.Usual.Sentence(false, "w@a.localhost"), "tells", "where no mail can be sent")
	named := care.Care{Takes: "nothing", Tells: "q@b.localhost, trouble"}
	assert.Contains(t, named.Sentence(true, ""), "tells q@b.localhost of trouble", "an admin without an address")
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
		assert.Equal(t, want, [2]string{c.Told(true, "w@a"), c.Told(false, "w@a")}, tells)
	}
	for text, fits := range map[string]bool{"trouble": true, "a@b.c, changes": true, "nobody": true, "a@b.c": false,
		"a@b.c, nothing": false, "a b@c, trouble": false} {
		assert.Equal(t, fits, regexp.MustCompile("^(?:"+care.TellsForm+")$").MatchString(text), text)
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
