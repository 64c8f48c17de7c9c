package report_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/PuerkitoBio/goquery"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/sites/report"
	"tivset/internal/trial/servers"
)

// In a browser the list is filtered without a server; without scripts all of it is shown,
// and no control that would do nothing.
func TestFiltersInABrowser(t *testing.T) {
	servers.Need(t, "chromium")
	text, err := report.Of(made()).HTML()
	require.NoError(t, err)
	shown := func(does string) (titles []string, count string) {
		t.Helper()
		file := filepath.Join(t.TempDir(), "page.html")
		page := strings.Replace(string(text), "</body>", "<script>"+does+"</script></body>", 1)
		require.NoError(t, os.WriteFile(file, []byte(page), 0o600))
		document, err := goquery.NewDocumentFromReader(strings.NewReader(servers.Chromium(t, "file://"+file)))
		require.NoError(t, err)
		document.Find("#list tbody tr:not([hidden]) a").Each(func(_ int, s *goquery.Selection) {
			titles = append(titles, s.Text())
		})
		return titles, document.Find("#f-count").Text()
	}
	set := func(id, value string) string {
		return fmt.Sprintf("document.getElementById(%q).%s;document.querySelector('form')"+
			".dispatchEvent(new Event('input'));", id, value)
	}
	for does, want := range map[string][]string{
		set("f-words", `value="lock jour"`):                             {"Lock Journal"},
		set("f-health", `value="gone"`):                                 {"Class 2"},
		set("f-account", `value="bollard"`):                             {"Lock Journal", "Slate School", "Tides"},
		set("f-wants", "checked=true") + set("f-words", `value="shop"`): {"Chandlery <Shop>"},
	} {
		titles, count := shown(does)
		assert.Equal(t, want, titles, does)
		assert.Equal(t, fmt.Sprintf("%d of 6", len(want)), count)
	}
	all, err := goquery.NewDocumentFromReader(strings.NewReader(string(text)))
	require.NoError(t, err)
	_, hidden := all.Find("form").Attr("hidden")
	assert.True(t, hidden)
}
