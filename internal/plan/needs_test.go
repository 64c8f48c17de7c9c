package plan_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/hosting/helperpage"
	"tivset/internal/plan"
	"tivset/internal/testing/sitetest"
)

// needing edits Inkreach's kit so that it needs what is said.
func needing(t *testing.T, w *sitetest.World, needs string) {
	t.Helper()
	name := filepath.Join(w.Demo.Folder, "demo/catalogue/inkreach/kit.yaml")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	changed := strings.Replace(string(text), `needs: {database: {mariadb: ">=10.4"}, space: 1MB}`, "needs: {"+needs+"}", 1)
	require.NotEqual(t, string(text), changed)
	require.NoError(t, os.WriteFile(name, []byte(changed), 0o600))
}

const wanted = `php: {version: ">=8.1", extensions: [mbstring, intl], functions: [proc_open], settings: {memory_limit: 64M, file_uploads: "1"}, ` +
	`recommended: {extensions: [apcu], settings: {upload_max_filesize: 8M}}}, database: {mariadb: ">=10.4"}`

// What PHP has to be is compared with the one that serves the site, as a helper page
// found it, and never with that of the command line, which is another.
func TestRequirementsAreThoseOfThePHPThatServes(t *testing.T) {
	w := sitetest.Demo(t)
	needing(t, w, wanted)
	sitetest.PHP(
		t,
		w,
		`echo '{"version": "8.2.29", "extensions": [], "functions": {}, "settings": {"memory_limit": "-1"}}'`,
	)
	planned, err := w.Planner.Plan(ctx, sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	assert.Contains(t, planned.Needs, plan.Need{What: "PHP", Wanted: ">=8.1", Have: "asked when it begins", OK: true})
	have := map[string]plan.Need{}
	for _, n := range planned.Needs {
		assert.NotContains(t, n.What, "setting", "the command line was asked")
		have[n.What] = n
	}
	assert.True(t, have["MariaDB"].OK && have["space"].OK)

	found := helperpage.Found{Version: "8.2.29-1~deb12", Extensions: []string{"mbstring", "Intl"},
		Functions: map[string]bool{"proc_open": true}, Free: -1,
		Settings: map[string]string{"memory_limit": "-1", "file_uploads": "1", "upload_max_filesize": "2M"}}
	warnings, err := plan.FitPHP(&planned.Site, 1, found)
	require.NoError(t, err)
	require.Len(t, warnings, 2, "what would be better is a warning")
	assert.Contains(t, warnings[0], "Ask the host to switch on the PHP extension apcu")
	assert.Contains(t, warnings[1], "upload_max_filesize to 8M")

	found = helperpage.Found{Version: "7.4.33", Extensions: []string{"mbstring"}, Free: -1,
		Settings: map[string]string{"memory_limit": "32M"}}
	_, err = plan.FitPHP(&planned.Site, 1, found)
	f := fault.Of(err)
	require.Equal(t, fault.Failed, f.Kind)
	var ids []string
	for _, p := range f.Problems {
		ids = append(ids, p.ID)
		assert.Contains(t, p.Remedy, "Ask the host")
	}
	assert.Equal(t, []string{"PHP", "PHP extension intl", "PHP function proc_open", "PHP setting file_uploads",
		"PHP setting memory_limit"}, ids, "all that lacks at once")

	// What the app brings with it does not have to be there.
	bringing := planned.Site
	k := *bringing.Kit.Kit
	k.PHPSettings = map[string]string{"memory_limit": "64M", "file_uploads": "1"}
	bringing.Kit.Kit = &k
	_, err = plan.FitPHP(&bringing, 1, found)
	assert.Len(t, fault.Of(err).Problems, 3)
}

func TestSpaceAndServerThatAreTooSmall(t *testing.T) {
	w := sitetest.Demo(t)
	needing(t, w, `database: {mariadb: ">=10.4"}, space: 900TB`)
	_, err := w.Planner.Plan(ctx, sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.ErrorContains(t, err, "space: 900 TB is needed")
}

// The newest release that fits the server is taken, and the review says so.
func TestNewestReleaseThatFits(t *testing.T) {
	w := sitetest.Demo(t)
	needing(t, w, `database: {mariadb: ">=99"}`)
	request := sitetest.Request("inkreach", "lockside.localhost/journal")
	planned, err := w.Planner.Plan(ctx, request)
	require.NoError(t, err)
	assert.Equal(t, "1.3.2", planned.Release)
	assert.Contains(t, planned.Warnings[0], "1.3.2 is the newest release that fits")
	request.Release = "1.4.0"
	_, err = w.Planner.Plan(ctx, request)
	require.ErrorContains(t, err, "Inkreach 1.4.0 needs mariadb >=99")
}
