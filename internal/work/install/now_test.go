package install_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
)

// A kit that reads another title than the one that was asked for, or none at all,
// is told of when the site is installed, and the record has what was asked for.
func TestAKitThatReadsTheWrongTitle(t *testing.T) {
	for reads, said := range map[string]string{
		`{query: "SELECT 'Another'"}`:               `the title is "Another", not "Lock`,
		`{file: config/settings.php, constant: NO}`: "what the site says of itself cannot be told: read the title",
	} {
		w := sitetest.Demo(t)
		w.Hosting.Settle = 0
		name := filepath.Join(w.Demo.Folder, "demo/catalogue/inkreach/kit.yaml")
		text, err := os.ReadFile(name)
		require.NoError(t, err)
		changed := strings.Replace(string(text), "\nnow:\n", "\nnow:\n  title: "+reads+"\n", 1)
		require.NotEqual(t, string(text), changed)
		require.NoError(t, os.WriteFile(name, []byte(changed), 0o600))
		request := sitetest.Request("inkreach", "lockside.localhost/journal")
		done, err := w.Install(request)
		require.NoError(t, err)
		assert.Contains(t, strings.Join(done.Warnings, "\n"), said)
		assert.Equal(t, request.Answers["title"], done.Site.Title)
	}
}
