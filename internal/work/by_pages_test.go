package work_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/chaos"
	"tivset/internal/trial/servers"
)

// An app that is set up by its own pages keeps the address and the folder that it
// has meanwhile; afterwards they are those of its place, in tables and in files.
func TestSetUpByPagesKnowsItsPlace(t *testing.T) {
	g := chaos.NewGround(t, servers.PHPWeb)
	for _, reach := range []string{"local", "FTPS"} {
		w := g.WorldByPages(t, reach)
		done, err := w.Install(chaos.Request("lockside.localhost/"+strings.ToLower(reach), "1.0.0"))
		require.NoError(t, err, "%v", fault.Of(err))
		x := done.Site
		text, err := os.ReadFile(filepath.Join(w.Root, x.Folder, "cache/paths.php"))
		require.NoError(t, err)
		assert.Contains(t, string(text), "'"+x.URL+"'")
		assert.Contains(t, string(text), "'"+filepath.Join(w.Root, x.Folder)+"'")
		assert.NotContains(t, string(text), "stage-")
		db := w.Real.Open(t, x.Database.Name)
		for name, value := range map[string]string{"home": x.URL, "packed": x.URL, "json": strings.ReplaceAll(x.URL+"admin/",
			"/", `\/`)} {
			var has string
			require.NoError(t, db.QueryRow("SELECT value FROM "+x.Database.Tables+"facts WHERE name = '"+name+"'").Scan(&has))
			assert.Contains(t, has, value)
			assert.NotContains(t, has, "stage-")
		}
		assert.NotContains(t, strings.Join(done.Warnings, " "), "address or the folder of before")
	}
}
