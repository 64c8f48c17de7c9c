package work_test

import (
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/records/job"
	"tivset/internal/testing/sitetest"
)

// A kit may put a secret into an address that the app is asked for. Whatever
// fails then, nothing that is said or kept about the job holds it.
func TestNoSecretInWhatIsSaid(t *testing.T) {
	const mine = "Kranich & Teekanne 74/Ufer"
	for name, broken := range map[string]string{
		"set-up":  "  - request: {get: \"nothing-here?key={admin.password | url}\"}\nrecognise:",
		"expects": "  - request: {get: \"index.page?key={admin.password | url}\", expect: {text: never}}\nrecognise:",
		"query":   "  - run-sql: \"SELECT * FROM nowhere WHERE x = :key\"\n    with: {key: \"{admin.password}\"}\nrecognise:",
	} {
		t.Run(name, func(t *testing.T) {
			w := sitetest.Demo(t)
			file := filepath.Join(w.Demo.Folder, "demo/catalogue/inkreach/kit.yaml")
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(text), "recognise:", broken, 1)), 0o644))
			var told []job.Event
			w.Desk.Progress = func(e job.Event) { told = append(told, e) }
			r := sitetest.Request("inkreach", "lockside.localhost/journal")
			r.Answers["admin.password"] = mine
			_, err = w.Install(r)
			require.Error(t, err)
			f := fault.Of(err)
			jobs, errJobs := w.Desk.Jobs(ctx)
			require.NoError(t, errJobs)
			require.Len(t, jobs, 1)
			assert.NotEmpty(t, jobs[0].Problem)
			record, errRecord := json.Marshal(jobs)
			require.NoError(t, errRecord)
			said := fmt.Sprintf("%v %+v %s %v %v", err, *f, record, f.Details, told)
			for _, name := range []string{w.Home.Ledger(), w.Home.Ledger() + "-wal"} {
				kept, _ := os.ReadFile(name)
				said += string(kept)
			}
			journals, errGlob := filepath.Glob(filepath.Join(w.Home.Journals(), "*"))
			require.NoError(t, errGlob)
			for _, name := range journals {
				kept, errRead := os.ReadFile(name)
				require.NoError(t, errRead)
				said += string(kept)
			}
			for _, form := range []string{mine, url.QueryEscape(mine), url.PathEscape(mine), "Teekanne"} {
				assert.NotContains(t, said, form)
			}
			assert.NotEmpty(t, f.What)
		})
	}
}
