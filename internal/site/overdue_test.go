package site

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tivset/internal/answer/care"
	"tivset/internal/records/ledger"
)

// A backup is late when the care's time has passed, and some more: machines sleep at night.
func TestOverdue(t *testing.T) {
	now := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		backups string
		ago     time.Duration
		made    bool
		want    string
	}{
		{"daily, 7d", 30 * time.Hour, true, ""},
		{"daily, 7d", 40 * time.Hour, true, "16 hours"},
		{"daily, 7d", 30 * 24 * time.Hour, false, "29 days"},
		{"hourly, 7d", 2 * time.Hour, true, ""},
		{"hourly, 7d", 9 * time.Hour, true, "8 hours"},
		{"weekly, 4w", 9 * 24 * time.Hour, true, ""},
		{"none", 900 * 24 * time.Hour, false, ""},
	} {
		x := ledger.Site{InstalledAt: now.Add(-c.ago), Care: care.Care{Backups: c.backups}}
		if c.made {
			at := now.Add(-c.ago)
			x.InstalledAt, x.LastBackupAt = now.AddDate(-1, 0, 0), &at
		}
		assert.Equal(t, c.want, overdue(x, now), "%+v", c)
	}
}
