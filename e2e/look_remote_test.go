//go:build unix

package e2e

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// Who may only look has no password of an account on another machine: what is there cannot be seen, and that is said.
// It is neither empty nor without backups.
func TestWhoMayOnlyLookAtAnotherMachine(t *testing.T) {
	servers.Slow(t)
	p := newTeam(t)
	file := p.file("remote.yaml", remote(p.demo))
	run := func(home string, args ...string) (string, error) {
		out, err := p.as("tivset", []string{"TIVSET_HOME=" + home, "PASSWORD=" + p.demo.Password}, args...).CombinedOutput()
		return string(out), err
	}
	for _, args := range [][]string{{"account", "add", "quillmere", "--replace", "--from", file},
		{"account", "trust", "quillmere", p.demo.Standin.SSH.Fingerprint()},
		append(install("inkreach", "lockside.localhost/journal"), "--yes"), {"backup", "journal"}} {
		out, err := run(p.demo.Folder, args...)
		require.NoError(t, err, "%v: %s", args, out)
	}
	office := another(t, p.program)
	var key struct{ Key string }
	p.of(&key, office, "team", "key")
	var added struct{ Team string }
	p.of(&added, p.demo.Folder, "team", "add", "office", key.Key, "--may", "look")
	p.must(office, "ledger", "use", p.at, "--team", added.Team)
	_ = os.Remove(file)
	before := p.snapshot()
	for _, args := range [][]string{{"backup", "journal", "--list"}, {"check", "journal"}, {"backup", "journal"},
		{"restore", "journal", "--yes"}, {"account", "test", "quillmere"}, {"reveal", "journal"},
		{"update", "journal", "--yes"}} {
		out, err := run(office, args...)
		assert.Error(t, err, "%v: %s", args, out)
		for _, not := range []string{"no backup yet", "0 files", p.demo.Password} {
			assert.NotContains(t, out, not, args)
		}
	}
	out, _ := run(office, "account", "show", "quillmere")
	assert.NotContains(t, out, "0 files")
	assert.NotContains(t, out, p.demo.Password)
	assert.Contains(t, p.must(office, "sites"), "/journal")
	assert.Equal(t, before, p.snapshot())
}
