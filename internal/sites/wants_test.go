package sites_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tivset/internal/answer/care"
	"tivset/internal/records/ledger"
	"tivset/internal/sites"
)

// What is worst comes first.
func TestWants(t *testing.T) {
	at := time.Now()
	for what, x := range map[string]ledger.Site{
		"its files back":        {Gone: "files", Health: "gone"},
		"a look":                {Health: "bad", Urgent: true, Newer: "2"},
		"2, urgently":           {Health: "good", Urgent: true, Newer: "2", Due: "2"},
		"2, is due":             {Health: "good", Newer: "2", Due: "2", Care: care.Usual},
		"2 failed":              {Health: "good", Newer: "2", Tried: &ledger.Tried{Release: "2"}},
		"a backup":              {Health: "good", Newer: "2"},
		"a backup, 3 days late": {Health: "good", Newer: "2", Overdue: "3 days", Care: care.Usual},
		"2 is there":            {Health: "good", Newer: "2", Care: care.Usual},
		"":                      {Health: "good", LastBackupAt: &at},
	} {
		assert.Equal(t, what, sites.WantOf(x).What)
		assert.Equal(t, what == "", sites.WantOf(x).Call == "")
	}
}
