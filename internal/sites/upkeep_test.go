package sites_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tivset/internal/sites"
)

// Whether anything does what care says is told by what runs, not by what was promised.
func TestUpkeepIsWanting(t *testing.T) {
	now := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		u         sites.Upkeep
		why, call string
	}{
		"never, off":      {sites.Upkeep{}, "nothing does this yet, as maintenance is off", "maintain on"},
		"off, by hand":    {sites.Upkeep{Last: now.Add(-time.Hour)}, "", ""},
		"off for a week":  {sites.Upkeep{Last: now.AddDate(0, 0, -7)}, "was run last 7 days ago", "maintain on"},
		"on, and just on": {sites.Upkeep{On: true}, "", ""},
		"on, and asleep": {sites.Upkeep{On: true, Last: now.AddDate(0, 0, -3)}, "last 3 days ago: this machine",
			"maintain"},
		"on, an hour ago":       {sites.Upkeep{On: true, Last: now.Add(-time.Hour)}, "", ""},
		"on, late by a morning": {sites.Upkeep{On: true, Last: now.Add(-30 * time.Hour)}, "30 hours ago", "maintain"},
	} {
		c.u.Now = now
		why, call := c.u.Wanting()
		assert.Contains(t, why, c.why, name)
		assert.Equal(t, c.why == "", why == "", name)
		call = strings.NewReplacer("\ufdd0", "", "\ufdd1", " ", "\ufdd2", "").Replace(call) // the marks of a call
		assert.Contains(t, call, c.call, name)
	}
}
