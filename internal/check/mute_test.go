package check_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/testing/sitetest"
)

// An address that does not answer is not said to show nothing.
func TestAddressesThatDoNotAnswer(t *testing.T) {
	w := sitetest.Demo(t)
	done, err := w.Install(sitetest.Request("inkreach", "lockside.localhost/journal"))
	require.NoError(t, err)
	_, fine := sitetest.Examined(t, w, done.Site.Address)
	assert.True(t, fine["private files"])
	w.Trip.FailOn("web GET")
	e, fine := sitetest.Examined(t, w, done.Site.Address)
	w.Trip.FailOn()
	require.Contains(t, fine, "private files")
	assert.False(t, fine["private files"], "%v", e.Checks)
}
