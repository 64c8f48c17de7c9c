package plan_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/plan"
	"tivset/internal/testing/sitetest"
)

// needing edits Inkwater's kit so that it needs what is said.
func needing(t *testing.T, w *sitetest.World, needs string) {
	t.Helper()
	name := filepath.Join(w.Demo.Folder, "demo/catalogue/inkwater/kit.yaml")
	text, err := os.ReadFile(name)
	require.NoError(t, err)
	changed := strings.Replace(string(text), `needs: {database: {mariadb: ">=10.4"}, disk: 1MB}`, "needs: {"+needs+"}", 1)
	require.NotEqual(t, string(text), changed)
	require.NoError(t, os.WriteFile(name, []byte(changed), 0o600))
}

const wanted = `php: {version: ">=8.1", extensions: [mbstring, intl], functions: [proc_open], settings: {memory_limit: 64M, file_uploads: "1"}, ` +
	`recommended: {extensions: [apcu], settings: {upload_max_filesize: 8M}}}, database: {mariadb: ">=10.4"}`

func TestRequirementsAreComparedBeforeTheReview(t *testing.T) {
	w := sitetest.Demo(t)
	needing(t, w, wanted)
	request := sitetest.Request("inkwater", "lockside.localhost/journal")

	planned, err := w.Planner.Plan(ctx, request)
	require.NoError(t, err)
	assert.Contains(t, planned.Needs, plan.Need{What: "PHP", Wanted: ">=8.1", Have: "looked at when the install begins",
		OK: true})

	sitetest.PHP(t, w, `echo '{"version": "8.2.29-1~deb12", "extensions": ["mbstring", "Intl"], "functions": {"proc_open": true}, "settings": {"memory_limit": "-1", "file_uploads": "1", "upload_max_filesize": "2M"}}'`)
	planned, err = w.Planner.Plan(ctx, request)
	require.NoError(t, err)
	have := map[string]plan.Need{}
	for _, n := range planned.Needs {
		have[n.What] = n
	}
	assert.True(t, have["PHP"].OK && have["PHP extension intl"].OK && have["PHP setting memory_limit"].OK &&
		have["MariaDB"].OK && have["space"].OK)
	assert.False(t, have["PHP extension apcu"].OK)
	require.Len(t, planned.Warnings, 2, "what would be better is a warning")
	assert.Contains(t, planned.Warnings[0], "Ask the host to switch on the PHP extension apcu")
	assert.Contains(t, planned.Warnings[1], "upload_max_filesize to 8M")

	sitetest.PHP(t, w, `echo '{"version": "7.4.33", "extensions": ["mbstring"], "functions": {"proc_open": false}, "settings": {"memory_limit": "32M", "file_uploads": ""}}'`)
	before := w.Snapshot()
	_, err = w.Planner.Plan(ctx, request)
	f := fault.Of(err)
	require.Equal(t, fault.Failed, f.Kind)
	var ids []string
	for _, p := range f.Problems {
		ids = append(ids, p.ID)
		assert.Contains(t, p.Remedy, "Ask the host")
	}
	assert.Equal(t, []string{"PHP", "PHP extension intl", "PHP function proc_open", "PHP setting file_uploads",
		"PHP setting memory_limit"}, ids, "all that lacks at once")
	sitetest.Same(t, before, w.Snapshot())

	sitetest.PHP(t, w, "echo no such option >&2; exit 3")
	_, err = w.Planner.Plan(ctx, request)
	require.ErrorContains(t, err, "the account's PHP cannot be asked")
	assert.ErrorContains(t, err, "no such option")
}

func TestSpaceAndServerThatAreTooSmall(t *testing.T) {
	w := sitetest.Demo(t)
	needing(t, w, `database: {mariadb: ">=10.4"}, disk: 900TB`)
	_, err := w.Planner.Plan(ctx, sitetest.Request("inkwater", "lockside.localhost/journal"))
	require.ErrorContains(t, err, "space: 900 TB is needed")
}

// The newest release that fits the server is taken, and the review says so.
func TestNewestReleaseThatFits(t *testing.T) {
	w := sitetest.Demo(t)
	needing(t, w, `database: {mariadb: ">=99"}`)
	request := sitetest.Request("inkwater", "lockside.localhost/journal")
	planned, err := w.Planner.Plan(ctx, request)
	require.NoError(t, err)
	assert.Equal(t, "1.3.2", planned.Release)
	assert.Contains(t, planned.Warnings[0], "1.3.2 is the newest release that fits")
	request.Release = "1.4.0"
	_, err = w.Planner.Plan(ctx, request)
	require.ErrorContains(t, err, "Inkwater 1.4.0 needs mariadb >=99")
}
