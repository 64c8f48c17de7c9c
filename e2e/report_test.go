//go:build unix

package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whoever finds a report has no password by it: neither the page nor its JSON has one that the site has.
func TestAReportLetsNobodyIn(t *testing.T) {
	p := newProgram(t)
	run := func(args ...string) string {
		t.Helper()
		out, err := p.as("tivset", []string{"TIVSET_HOME=" + p.demo.Folder}, args...).Output()
		require.NoError(t, err, "%v", args)
		return string(out)
	}
	run(install("willowbench", "lockside.localhost/forum")...)
	var shown map[string]any
	require.NoError(t, json.Unmarshal([]byte(run("reveal", "lockside.localhost/forum", "--json")), &shown))
	page := filepath.Join(t.TempDir(), "report.html")
	run("report", "--into", page)
	text, err := os.ReadFile(page)
	require.NoError(t, err)
	said := run("report", "--json")
	passwords := 0
	for _, secret := range secretsIn(shown) {
		passwords++
		assert.NotContains(t, string(text), secret)
		assert.NotContains(t, said, secret)
	}
	assert.GreaterOrEqual(t, passwords, 2, "the admin's and the database's")
}

// secretsIn are the texts of what is called a password or a secret, however deep.
func secretsIn(v any) (out []string) {
	in, is := v.(map[string]any)
	if !is {
		return nil
	}
	for name, x := range in {
		if text, is := x.(string); is && name == "password" {
			out = append(out, text)
		}
		out = append(out, secretsIn(x)...)
	}
	return out
}
