package work_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tivset/internal/demo"
	"tivset/internal/fault"
	"tivset/internal/testing/sitetest"
	"tivset/internal/work/update"
)

// A site is closed when its address answers with the notice, or at least with 503: what answers that
// nothing is there, or that one may not look, says nothing of the site.
func TestWhatIsNotClosed(t *testing.T) {
	for status, closed := range map[int]bool{http.StatusNotFound: false, http.StatusForbidden: false,
		http.StatusInternalServerError: false, http.StatusServiceUnavailable: true} {
		w := sitetest.Demo(t)
		done, err := w.Install(sitetest.Older("inkreach", "lockside.localhost/journal", "1.3.2"))
		require.NoError(t, err)
		before := demo.ButBackups(w.Snapshot())
		w.Instead = func(r *http.Request) int {
			if r.URL.Query().Has("tivset") {
				return status
			}
			return 0
		}
		_, err = update.To(ctx, w.Desk, update.Request{Site: done.Site.Address})
		w.Instead = nil
		if closed {
			assert.NoError(t, err, status)
			continue
		}
		require.ErrorContains(t, err, "the site cannot be closed", status)
		assert.Equal(t, fault.Failed, fault.Of(err).Kind)
		assert.Equal(t, before, demo.ButBackups(w.Snapshot()), status)
	}
}
