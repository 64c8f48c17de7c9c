package work_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/fault"
	"tivset/internal/testing/chaos"
	"tivset/internal/trial/servers"
	"tivset/internal/work/update"
)

// Where pages cannot be kept closed until a site is checked, the job says that visitors could come in.
func TestCheckedOpenIsSaid(t *testing.T) {
	servers.Slow(t)
	for name, c := range map[string]struct{ untouched, warns string }{
		"no page": {"[index.php, write.php, admin, lib, setup]", "no page of it could be kept closed"},
		"a page":  {"[index.php, lib]", "its address did not show them the notice"},
		"all":     {"[]", ""},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			g := chaos.NewGround(t, servers.PHPWeb)
			w := g.WorldOf(t, "local", chaos.Changed(t, "place:\n", "place:\n  untouched: "+c.untouched+"\n"))
			installed, err := w.Install(chaos.Request("lockside.localhost/forum", "1.0.0"))
			require.NoError(t, err, "%v", fault.Of(err))
			v := g.Visit("http://lockside.localhost/forum/", 50*time.Millisecond)
			done, err := update.To(ctx, w.Desk, update.Request{Site: installed.Site.Address, Release: "2.0.0"})
			v.Leave()
			require.NoError(t, err, "%v", fault.Of(err))
			said := strings.Join(done.Warnings, "\n")
			if c.warns == "" {
				assert.NotContains(t, said, "visitors could come in")
			} else {
				assert.Contains(t, said, c.warns)
			}
			noStranger(t, v, name)
			now, err := w.Book.Find(ctx, installed.Site.Address)
			require.NoError(t, err)
			there := everything(t, w, now)
			for _, text := range v.Kept() {
				assert.Equal(t, 3, strings.Count(there, text+"\n"), text)
			}
		})
	}
}
