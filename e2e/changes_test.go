//go:build unix

package e2e

import (
	"encoding/json"
	"fmt"
	"os/exec"
	"path/filepath"
	"testing"

	"tivset/internal/trial/servers"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The program is killed at every line of the journal while it changes a site;
// each time undo brings the account back, or finishes a job that had settled.
func TestChangesKilledAtEveryJournalRecord(t *testing.T) {
	servers.Slow(t)
	stride := servers.Sweep(5)
	moved := "chandlery.localhost/news"
	for name, c := range map[string]struct {
		do, back []string
		done     string
	}{
		"update": {[]string{"update", "journal", "--yes", "--no-backup"}, nil, "update done"},
		"renew":  {[]string{"reveal", "journal", "--renew"}, nil, "renew done"},
		"remove": {[]string{"remove", "journal", "--yes", "--no-backup"}, nil, "remove done"},
		"move": {[]string{"move", "journal", "--at", moved, "--yes"}, []string{"remove", moved, "--yes", "--no-backup"},
			"move done"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := newProgram(t)
			must := func(args ...string) {
				out, err := p.as("tivset", nil, args...).CombinedOutput()
				require.NoError(t, err, "%v: %s", args, out)
			}
			must("install", "inkreach", "--release", "1.3.2", "--at", "lockside.localhost/journal", "-a", "title=T", "-a",
				"admin.email=w@lockside.localhost", "--yes")
			kept := t.TempDir()
			must("backup", "journal", "--into", kept)
			files, err := filepath.Glob(filepath.Join(kept, "*"))
			require.NoError(t, err)
			killed, settled := 0, 0
			for n := 1; ; n += stride {
				require.Less(t, n, 400)
				before := p.snapshot()
				err := p.as("tivset-dies", []string{fmt.Sprintf("DIE_AT=%d", n)}, c.do...).Run()
				moment := fmt.Sprintf("killed at the %d-th look at the clock", n)
				outcome := p.outcomeAfterCrash(c.done)
				after := p.snapshot()
				require.NotContains(t, after, ".tivset", moment)
				if outcome != c.done {
					require.Equal(t, before, after, moment)
				} else {
					settled++
					if c.back != nil {
						must(c.back...)
					}
					must("restore", "lockside.localhost/journal", "--from", files[0], "--yes", "--no-backup")
				}
				must("check", "journal")
				if err == nil {
					break
				}
				killed++
			}
			t.Logf("killed %d times, %d of them after the job had settled", killed, settled)
			assert.Greater(t, killed, 16/stride)
		})
	}
}

// outcomeAfterCrash undoes what a crash left and says how the last job ended.
func (p *program) outcomeAfterCrash(done string) string {
	p.t.Helper()
	var jobs []job
	p.json(&jobs, "jobs")
	for _, j := range jobs {
		if j.Outcome == "cut off" || j.Outcome == "incomplete" {
			// What the job had begun to change is put back over what is there, with a
			// yes only.
			var ended job
			out, err := p.as("tivset", nil, "undo", j.Job, "--json").Output()
			if exit, failed := err.(*exec.ExitError); failed {
				require.Equal(p.t, 3, exit.ExitCode(), "%s", out)
				require.Contains(p.t, string(out), "kept first")
				out, err = p.as("tivset", nil, "undo", j.Job, "--json", "--yes").Output()
			}
			require.NoError(p.t, err, "%s", out)
			require.NoError(p.t, json.Unmarshal(out, &ended))
			became := ended.What + " " + ended.Outcome
			require.Contains(p.t, []string{ended.What + " undone", done}, became)
			return became
		}
	}
	return jobs[0].What + " " + jobs[0].Outcome
}
