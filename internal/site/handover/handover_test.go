package handover_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/answer/care"
	"tivset/internal/records/ledger"
	"tivset/internal/secret"
	"tivset/internal/site/handover"
)

var now = time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)

func record() ledger.Site {
	backed := now.AddDate(0, 0, -1)
	return ledger.Site{
		Address:      "lockside.localhost/forum",
		URL:          "http://lockside.localhost/forum/",
		Title:        "Lock <b>& Talk",
		AdminURL:     "http://lockside.localhost/forum/admin/",
		App:          "willowbench",
		Release:      "2.4.1",
		Care:         care.Usual,
		Admin:        ledger.Admin{Name: "wharfinger", Email: "w@lockside.localhost"},
		InstalledAt:  now,
		LastBackupAt: &backed,
	}
}

// The page says what one has to know; the password only where it was asked for, and
// nothing of a title is taken for HTML.
func TestPage(t *testing.T) {
	page := handover.Of(
		handover.From{Record: record(), By: "quill on millpond", Ask: "desk@lockside.localhost", Told: true, Now: now},
	)
	text := handover.Text(page)
	html, err := handover.HTML(page)
	require.NoError(t, err)
	for _, words := range []string{"http://lockside.localhost/forum/admin/", "wharfinger",
		"willowbench 2.4.1, there since 2026-11-26",
		"installs fixes once they are 3 days old", "notifies w@lockside.localhost of trouble", "quill on millpond",
		"not on this page", "desk@lockside.localhost", "2026-11-25 08:00 UTC"} {
		assert.Contains(t, text, words)
		assert.Contains(t, string(html), words)
	}
	assert.Contains(t, string(html), "<h1>Lock &lt;b&gt;&amp; Talk</h1>")
	assert.NotContains(t, string(html), "<script")
	assert.NotRegexp(t, `(src|href)="//`, string(html), "it needs nothing else")

	with := handover.Of(handover.From{Record: record(), Password: secret.Of("Kranich & <Ufer>"), By: "quill", Now: now})
	assert.Contains(t, handover.Text(with), "Kranich & <Ufer>")
	html, err = handover.HTML(page, with)
	require.NoError(t, err)
	assert.Contains(t, string(html), "Kranich &amp; &lt;Ufer&gt;")
	assert.Equal(t, 2, strings.Count(string(html), "<article>"), "a page each")
	assert.NotContains(t, handover.Text(with), "notifies", "where no mail can be sent nobody is told")
}
