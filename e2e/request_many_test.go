//go:build unix

package e2e

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// Who may request, and not operate, asks for many in the same way as for one: workers carry it out.
func TestWhoMayRequestAsksForMany(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	for _, at := range []string{"a", "b"} {
		p.json(&struct{}{}, install("inkreach", "lockside.localhost/"+at)...)
	}
	desk := another(t, p.program)
	var key struct{ Key string }
	p.of(&key, desk, "team", "key")
	var added struct{ Team string }
	p.of(&added, p.demo.Folder, "team", "add", "desk", key.Key, "--may", "request")
	p.must(desk, "ledger", "use", p.at, "--team", added.Team)
	p.works(p.second)
	for n, args := range [][]string{{"backup", "--all"}, {"check", "a", "b"}, {"update", "a", "b"}} {
		var all []queued
		p.of(&all, desk, append(args, "--queue", "--yes")...)
		require.Len(t, all, 2, args)
		for _, one := range all {
			o := p.ends(one.Number)
			if n < 2 { // there is no update to make, which the worker finds out
				assert.Equal(t, "done", o.State, "%v %v", args, one)
			}
		}
	}
	out, err := p.as("tivset", []string{"TIVSET_HOME=" + desk}, "remove", "a", "--yes").CombinedOutput()
	require.Error(t, err, string(out))
	assert.Contains(t, p.must(desk, "sites"), "/a")
}
