//go:build unix

package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// A host dies. All its sites come back in another account from a folder of backups, with one call: those whose domain
// is there at their own address, the others where somebody said; their passwords and labels with them. Nobody asks the
// dead account for anything. What fails half way leaves the records as they were.
func TestAHostDies(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	p.json(&struct{}{}, install("willowbench", "lockside.localhost/forum", "--label", "customer=brook")...)
	p.json(&struct{}{}, install("inkreach", "slate-school.localhost/journal")...)
	kept := t.TempDir()
	p.json(&[]struct{}{}, "backup", "--all", "--into", kept, "--yes")
	reveal := func() string {
		out, err := p.as("tivset", nil, "reveal", "forum").Output()
		require.NoError(t, err)
		return string(out)
	}
	password := reveal()

	old := filepath.Join(p.demo.Folder, "config", "accounts", "quillmere.yaml")
	text, err := os.ReadFile(old)
	require.NoError(t, err)
	lives := string(text)
	require.NoError(t, os.RemoveAll(filepath.Join(p.demo.Standin.Root, "web", "lockside", "forum")))
	dead := strings.ReplaceAll(lives, "local:"+p.demo.Standin.Root, "local:"+filepath.Join(t.TempDir(), "gone"))
	require.NotEqual(t, lives, dead)
	require.NoError(t, os.WriteFile(old, []byte(dead), 0o600))
	at := strings.Index(lives, "slate-school")
	require.Positive(t, at)
	others := strings.ReplaceAll(lives, "slate-school.localhost", "sluice.localhost")
	others = strings.ReplaceAll(others, "account: quillmere", "account: spindle")
	require.NoError(t, os.WriteFile(filepath.Join(filepath.Dir(old), "spindle.yaml"), []byte(others), 0o600))

	call := []string{"restore", "--all", "--account", "quillmere", "--into-account", "spindle", "--yes"}
	out, err := p.as("tivset", nil, append(call, "--from", kept)...).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "--domain slate-school.localhost=NEW")
	call = append(call, "--domain", "slate-school.localhost=chandlery.localhost")
	out, err = p.as("tivset", nil, append(call, "--from", t.TempDir())...).CombinedOutput()
	require.Error(t, err)
	assert.Contains(t, string(out), "the folder has no backup of this site")
	out, err = p.as("tivset", nil, call...).CombinedOutput()
	require.Error(t, err, "the dead account")
	assert.Contains(t, string(out), "--from FOLDER")

	call = append(call, "--from", kept)
	var sites []struct {
		Address, Account, Health string
		Labels                   map[string]string
	}
	p.json(&sites, "sites")
	before := sites
	killed := p.as("tivset-dies", []string{"DIE_AT=60"}, call...)
	require.Error(t, killed.Run())
	p.json(&sites, "sites")
	assert.Equal(t, before, sites)
	out, err = p.as("tivset", nil, "undo", "--all", "--yes").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Equal(t, password, reveal())

	var back []struct{ Outcome, Address string }
	p.json(&back, call...)
	require.Len(t, back, 2)
	p.json(&sites, "sites", "--account", "spindle")
	require.Len(t, sites, 2)
	for _, x := range sites {
		assert.Equal(t, "good", x.Health, x.Address)
	}
	admin := strings.Index(password, "Database")
	assert.Equal(t, password[:admin], reveal()[:admin], "the admin signs in as before")
	p.json(&sites, "sites", "--where", "customer=brook")
	require.Len(t, sites, 1)
	assert.Equal(t, "spindle", sites[0].Account)
	out, err = p.as("tivset", nil, "check", "--all", "--account", "spindle").CombinedOutput()
	require.NoError(t, err, string(out))
}
