package remove_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
	"tivset/internal/trial/servers"
	"tivset/internal/work/place"
	"tivset/internal/work/remove"
)

// A folder above the data of two sites goes with the last of them.
func TestFoldersOfSeveral(t *testing.T) {
	servers.Slow(t)
	w := sitetest.Demo(t)
	begin := w.Snapshot()
	first, err := w.Install(sitetest.Request("slateroom", "lockside.localhost/school"))
	require.NoError(t, err)
	second, err := w.Install(sitetest.Request("slateroom", "slate-school.localhost"))
	require.NoError(t, err)
	moved := w.Copy(place.Request{Site: first.Site.Address, At: "chandlery.localhost", Move: true})
	for _, x := range []string{second.Site.Address, moved.Site.Address} {
		w.Remove(remove.Request{Site: x, NoBackup: true})
	}
	sitetest.Same(t, begin, w.Snapshot(), "nothing is left")
}
