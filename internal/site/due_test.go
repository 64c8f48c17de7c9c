package site_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tivset/internal/answer/care"
	"tivset/internal/app/kit"
	"tivset/internal/records/ledger"
	"tivset/internal/site"
)

// What a site takes by itself: up to its level, once it has been out for long enough; what
// fixes a security hole is not waited for.
func TestDue(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	k := &kit.Kit{Releases: []kit.Release{
		{Release: "3.0.0", Date: "2026-11-01", Level: "breaking"},
		{Release: "2.1.0", Date: "2026-11-25", Level: "features"},
		{Release: "2.0.2", Date: "2026-11-24", Level: "fixes", Urgent: true},
		{Release: "2.0.1", Date: "2026-11-10", Level: "fixes"},
		{Release: "2.0.0", Date: "2026-01-01", Level: "features"}}}
	for want, c := range map[string]care.Care{
		"2.0.2": {Accepts: "fixes", After: "30d"}, // the hole
		"2.1.0": {Accepts: "features", After: "1d"},
		"3.0.0": {Accepts: "breaking", After: "0d"},
		"":      {Accepts: "nothing", After: "0d"},
	} {
		assert.Equal(t, want, site.Due(k, ledger.Site{Release: "2.0.0", Care: c}, now), "%v", c)
	}
	k.Releases[2].Urgent = false
	waits := ledger.Site{Release: "2.0.0", Care: care.Care{Accepts: "fixes", After: "3d"}}
	assert.Equal(t, "2.0.1", site.Due(k, waits, now), "the newer one is not out for three days")
	assert.Equal(t, "2.0.2", site.Due(k, waits, now.AddDate(0, 0, 1)))
	assert.Empty(t, site.Due(k, ledger.Site{Release: "3.0.0", Care: waits.Care}, now))
}

// Only the release that mends the hole is not waited for, not what came after it.
func TestDueAfterAnUrgentOne(t *testing.T) {
	k := &kit.Kit{Releases: []kit.Release{
		{Release: "2.1.0", Date: "2026-11-25", Level: "features"},
		{Release: "2.0.2", Date: "2026-11-25", Level: "fixes", Urgent: true},
		{Release: "2.0.0", Date: "2026-01-01", Level: "features"}}}
	x := ledger.Site{Release: "2.0.0", Care: care.Care{Accepts: "features", After: "7d"}}
	assert.Equal(t, "2.0.2", site.Due(k, x, time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)))
}
