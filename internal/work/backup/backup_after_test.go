package backup_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
	"tivset/internal/work/backup"
)

func TestRotation(t *testing.T) {
	r, err := backup.ParseRotation("2d, 2w,3m")
	require.NoError(t, err)
	day := func(text string) time.Time {
		at, err := time.Parse(time.DateOnly, text)
		require.NoError(t, err)
		return at
	}
	var all []time.Time
	for _, text := range []string{"2026-11-23", "2026-11-22", "2026-11-21", "2026-11-16", "2026-11-15", "2026-10-31",
		"2026-10-01", "2026-09-30", "2026-08-01"} {
		all = append(all, day(text))
	}
	assert.Equal(t, []time.Time{day("2026-11-21"), day("2026-11-16"), day("2026-11-15"), day("2026-10-01"),
		day("2026-08-01")}, r.Outdated(all))
	for _, bad := range []string{"", "7", "d7", "0d", "7x", "7d,"} {
		_, err := backup.ParseRotation(bad)
		assert.Error(t, err, bad)
	}
	w := sitetest.Demo(t)
	_, err = w.Install(sitetest.Request("lampshelf", "lockside.localhost/pictures"))
	require.NoError(t, err)
	at := day("2026-11-20")
	w.Now = func() time.Time { return at }
	for range 4 {
		at = at.Add(24 * time.Hour)
		_, err := backup.Make(ctx, w.Desk, backup.Request{Site: "pictures", Keep: "2d"})
		require.NoError(t, err)
	}
	left, err := backup.List(ctx, w.Desk, "pictures", "", "")
	require.NoError(t, err)
	require.Len(t, left, 2)
	assert.Equal(t, day("2026-11-24"), left[0].MadeAt)
}

// The clock of another machine is ahead: what was just made is kept all the same.
func TestWhatWasJustMadeIsKept(t *testing.T) {
	w := sitetest.Demo(t)
	_, err := w.Install(sitetest.Request("lampshelf", "lockside.localhost/pictures"))
	require.NoError(t, err)
	at := time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)
	w.Desk.Now = func() time.Time { return at }
	_, err = backup.Make(ctx, w.Desk, backup.Request{Site: "pictures"})
	require.NoError(t, err)
	at = at.Add(-time.Hour)
	made, err := backup.Make(ctx, w.Desk, backup.Request{Site: "pictures", Keep: "1d"})
	require.NoError(t, err)
	assert.NotContains(t, made.Dropped, made.File)
	left, err := backup.List(ctx, w.Desk, "pictures", "", "")
	require.NoError(t, err)
	var names []string
	for _, l := range left {
		names = append(names, l.File)
	}
	assert.Contains(t, names, made.File)
}
