//go:build unix

package e2e

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/trial/servers"
)

// Columns of a table of installs that are the operator's own stay with the sites as labels, also when one moves; those
// that cannot be labels are all said before anything is touched.
func TestATablesOwnColumnsStay(t *testing.T) {
	servers.Slow(t)
	p := newProgram(t)
	table := filepath.Join(t.TempDir(), "customers.csv")
	write := func(text string) { require.NoError(t, os.WriteFile(table, []byte(text), 0o600)) }
	before := p.snapshot()
	write("at,title,label.Customer,label.app\nlockside.localhost/a,A,brook,x\nlockside.localhost/b,B,weir,y\n")
	call := []string{"install", "inkreach", "--table", table, "-a", "admin.email=w@lockside.localhost", "--label",
		"contract=2026", "--yes"}
	out, err := p.as("tivset", nil, call...).CombinedOutput()
	require.Error(t, err)
	for _, words := range []string{"line 2, app=x", "line 3, app=y", "Nothing was touched"} {
		assert.Contains(t, string(out), words)
	}
	assert.Equal(t, before, p.snapshot())

	write("at,title,label.customer\nlockside.localhost/a,A,brook\nlockside.localhost/b,B,weir\n")
	out, err = p.as("tivset", nil, call...).CombinedOutput()
	require.NoError(t, err, string(out))
	var found []struct {
		Title  string
		Labels map[string]string
	}
	p.json(&found, "sites", "--where", "customer=weir")
	require.Len(t, found, 1)
	assert.Equal(t, map[string]string{"customer": "weir", "contract": "2026"}, found[0].Labels)
	moved := p.as("tivset", nil, "move", "lockside.localhost/b", "--at", "lockside.localhost/c", "--yes")
	out, err = moved.CombinedOutput()
	require.NoError(t, err, string(out))
	p.json(&found, "sites", "--where", "customer=weir")
	require.Len(t, found, 1)
	assert.Equal(t, "2026", found[0].Labels["contract"])
}
