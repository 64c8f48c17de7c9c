package report_test

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/PuerkitoBio/goquery"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/records/ledger"
	"tivset/internal/sites/report"
)

var now = time.Date(2026, 11, 23, 9, 30, 0, 0, time.UTC)

func ago(days int) *time.Time {
	t := now.AddDate(0, 0, -days)
	return &t
}

// made is a report of six sites, of which some are not as they should be.
func made() report.From {
	f := report.From{By: "wharfinger", Now: now, Spell: func(text string) string { return "call" + text }}
	for i, of := range []struct {
		title, host, app, health string
		backup                   *time.Time
		bytes                    int64
	}{{"Lockside Talk", "lockside.localhost/forum", "willowbench", "good", ago(0), 61 << 20},
		{"Lock Journal", "lockside.localhost/journal", "inkreach", "good", ago(3), 18 << 20},
		{"Chandlery <Shop>", "chandlery.localhost", "towline", "bad", ago(19), 240 << 20},
		{"Slate School", "slate-school.localhost", "slateroom", "good", ago(50), 510 << 20},
		{"Class 2", "slate-school.localhost/class-2", "slateroom", "gone", nil, 0},
		{"Tides", "chandlery.localhost/tides", "inkreach", "", nil, 9 << 20}} {
		until := now.AddDate(0, 0, 4+i*17)
		x := ledger.Site{Address: of.host, URL: "https://" + of.host + "/", Title: of.title, App: of.app, Release: "2.0.1",
			Account: []string{"quillmere", "bollard"}[i%2], Health: of.health, LastBackupAt: of.backup, Bytes: of.bytes,
			CheckedAt: ago(i), CertificateUntil: &until}
		if of.health == "gone" {
			x.Gone = "files"
		}
		if i == 1 {
			x.Newer, x.NewerLevel = "2.1.0", "fix"
		}
		f.Sites = append(f.Sites, x)
		for d := 60; d >= 0 && of.bytes > 0; d -= 1 + i {
			f.Measures = append(f.Measures, ledger.Measure{Address: of.host, Day: ago(d).Format(time.DateOnly),
				Bytes: of.bytes * int64(100-d) / 100})
		}
	}
	for d := range 40 {
		started := now.AddDate(0, 0, -d)
		ended := started.Add(time.Duration(3+d) * 700 * time.Millisecond)
		j := ledger.Job{ID: fmt.Sprintf("20261123-0930%02d-abcd", d), What: "update", Address: f.Sites[d%6].Address,
			Started: started, Ended: &ended, Outcome: ledger.Done}
		if d%9 == 2 {
			j.Outcome, j.Problem = ledger.Undone, "See that the site works: the front page answers 500"
		}
		if d == 5 {
			j.Outcome, j.Ended = ledger.Incomplete, nil
		}
		f.Jobs = append(f.Jobs, j)
	}
	for _, hours := range []int{6, 30, 24 * 40} {
		f.Rounds = append(f.Rounds, ledger.Round{At: now.Add(-time.Duration(hours) * time.Hour), Who: "steward@office",
			Seconds: 41.5, Lines: []ledger.RoundLine{{Address: f.Sites[0].Address, What: "updated"},
				{Address: f.Sites[1].Address, What: "trouble"}, {Address: f.Sites[0].Address, What: "waits"}}})
	}
	return f
}

func TestReport(t *testing.T) {
	f := made()
	r := report.Of(f)
	assert.Equal(t, []report.Count{{What: "good", N: 3}, {What: "bad", N: 1}, {What: "gone", N: 1},
		{What: "unknown", N: 1}}, r.Health)
	ages := map[string]int{}
	for _, c := range r.Backups {
		ages[c.What] = c.N
	}
	assert.Equal(t, map[string]int{"today or yesterday": 1, "up to a week": 1, "up to a month": 1, "older": 1, "none": 2},
		ages)
	assert.True(t, r.Due[0].Urgent, "what is urgent comes first")
	assert.Contains(t, r.Due[0].Call, "call")
	total := int64(0)
	for _, x := range f.Sites {
		total += x.Bytes
	}
	assert.InDelta(t, total, r.Space[len(r.Space)-1].Bytes, float64(total)*.06, "days without a look count as before")
	assert.Equal(t, "slate-school.localhost", r.Largest[0].Address)
	assert.Less(t, r.Largest[0].Before, r.Largest[0].Bytes)
	assert.Equal(t, report.Certificate{Domain: "lockside.localhost", Days: 4}, r.Certificates[0], "that ends first")
	jobs := 0
	for _, d := range r.Days {
		jobs += d.Done + d.Undone + d.Left
	}
	assert.Len(t, r.Days, 28)
	assert.Equal(t, 28, jobs)
	assert.Len(t, r.Jobs, 28, "those of four weeks")
	assert.Equal(t, report.Round{At: f.Rounds[0].At, Who: "steward@office", Seconds: 41.5, Lines: 2, Trouble: 1}, *r.Round)
	assert.Len(t, r.Rounds, 2, "those of four weeks")
	f.Of, f.Sites = "one", f.Sites[:1]
	assert.Zero(t, report.Of(f).Rounds[0].Trouble, "of a site only what was done there")

	text, err := json.Marshal(report.Of(report.From{Now: now}))
	require.NoError(t, err)
	assert.NotContains(t, string(text), "null", "of nothing there are empty lists")
}

// The page needs nothing else, says what its drawings show, and takes nobody's text for its
// own.
func TestPage(t *testing.T) {
	for name, f := range map[string]report.From{"full": made(), "empty": {Now: now}} {
		text, err := report.Of(f).HTML()
		require.NoError(t, err)
		if to := os.Getenv("TIVSET_PAGE"); to != "" && name == "full" {
			require.NoError(t, os.WriteFile(to, text, 0o600))
		}
		page, err := goquery.NewDocumentFromReader(bytes.NewReader(text))
		require.NoError(t, err)
		assert.Zero(t, page.Find("img, link, script[src], iframe, [style*=url]").Length(), "nothing of elsewhere")
		assert.NotContains(t, string(text), "@import")
		page.Find("svg[role=img]").Each(func(_ int, s *goquery.Selection) {
			for _, id := range strings.Fields(s.AttrOr("aria-labelledby", "")) {
				assert.NotEmpty(t, strings.TrimSpace(page.Find("#"+id).Text()), "%s: %s", name, id)
			}
		})
		page.Find("th").Each(func(_ int, s *goquery.Selection) { assert.NotEmpty(t, s.AttrOr("scope", "")) })
		assert.NotContains(t, string(text), "NaN")
		assert.NotContains(t, string(text), "ZgotmplZ", "the template found nothing unsafe")
		if name == "full" {
			assert.Equal(t, 6, page.Find("#list tbody tr").Length())
			assert.Contains(t, page.Find("#list").Text(), "Chandlery <Shop>")
			assert.NotContains(t, string(text), "<Shop>")
		}
		svgIsWhole(t, string(text))
	}
}

// svgIsWhole reads each drawing as XML.
func svgIsWhole(t *testing.T, page string) {
	t.Helper()
	for _, part := range strings.Split(page, "<svg")[1:] {
		text, _, _ := strings.Cut(part, "</svg>")
		d := xml.NewDecoder(strings.NewReader("<svg" + text + "</svg>"))
		for {
			if _, err := d.Token(); err == io.EOF {
				break
			} else if !assert.NoError(t, err, text) {
				return
			}
		}
	}
}

// The troubles of the last day stand on the page, each once, with their sites and what to do, as text; those of sites
// that are on record no more, and those of the day before yesterday, do not.
func TestTroublesOfTheNight(t *testing.T) {
	f := made()
	line := func(site int, detail string) ledger.RoundLine {
		return ledger.RoundLine{Address: f.Sites[site].Address, What: "trouble", Detail: detail, Remedy: "Do this."}
	}
	f.Rounds = []ledger.Round{
		{At: now.Add(-time.Hour), Who: "a", Lines: []ledger.RoundLine{line(4, "gone: its files"), line(2, "<b>bad</b>")}},
		{At: now.Add(-5 * time.Hour), Who: "a", Lines: []ledger.RoundLine{line(4, "gone: its files"),
			{Address: "forgotten.localhost/x", What: "trouble", Detail: "gone"}}},
		{At: now.Add(-30 * time.Hour), Who: "a", Lines: []ledger.RoundLine{line(0, "long ago")}}}
	r := report.Of(f)
	require.Len(t, r.Troubles, 2)
	assert.Equal(t, report.Trouble{Address: f.Sites[4].Address, At: now.Add(-time.Hour), What: "callgone: its files",
		Do: "callDo this."}, r.Troubles[0])
	page, err := r.HTML()
	require.NoError(t, err)
	doc, err := goquery.NewDocumentFromReader(bytes.NewReader(page))
	require.NoError(t, err)
	section := doc.Find("section").FilterFunction(func(_ int, s *goquery.Selection) bool {
		return strings.Contains(s.Find("h2").Text(), "Troubles of the last day")
	})
	assert.Equal(t, 2, section.Find("tbody tr").Length())
	assert.Contains(t, section.Text(), "<b>bad</b>", "as text")
	assert.Zero(t, section.Find("b").Length())
}
